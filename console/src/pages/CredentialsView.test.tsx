// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Credentials } from "../api";
import { service, shown } from "../testing/helpers";
import { CredentialsView } from "./CredentialsView";

const KEY = {
  fingerprint: "SHA256:a/b+c",
  kind: "ssh-ed25519",
  comment: "boat",
  added: "2026-11-20T08:00:00Z",
  added_by: "ada",
};
let sent: [string, string, unknown][];

function view(held: Partial<Credentials>, refuse?: string) {
  sent = [];
  service(({ method, path: whole, body }) => {
    const path = whole.replace("/accounts/ines", "");
    if (method === "GET")
      return [200, { account: "ines", password_set: null, password_set_by: null, keys: [], ...held }];
    sent.push([method, path, body]);
    if (refuse) return [400, { detail: refuse, title: "", places: [] }];
    if (method === "DELETE" && path === "/password") return [204, null];
    return [200, { account: "ines", revision: 2, password: "made-Up-7", keys: [] }];
  });
  shown(<CredentialsView account="ines" />);
}
afterEach(() => vi.unstubAllGlobals());

test("a generated password is shown this once; none is ever asked for", async () => {
  view({});
  fireEvent.click(await screen.findByRole("button", { name: "Generate one" }));
  expect((await screen.findByRole("status")).textContent).toContain("made-Up-7");
  expect(sent).toEqual([["PUT", "/password", { password: null }]]);
  expect(screen.queryByRole("button", { name: "Take it away" })).toBeNull();
});

test("a password that is there can be taken away, with who set it and when", async () => {
  view({ password_set: "2026-11-20T08:00:00Z", password_set_by: "ada" });
  await screen.findByText(/^set 2026-11-20 .* by ada$/);
  fireEvent.click(screen.getByRole("button", { name: "Take it away" }));
  await waitFor(() => expect(sent).toEqual([["DELETE", "/password", null]]));
});

test("what the service refuses is told where it was asked", async () => {
  view({}, "password: the password is too short; expected 8 characters or more");
  fireEvent.change(await screen.findByLabelText("A new one"), { target: { value: "short" } });
  fireEvent.click(screen.getByRole("button", { name: "Set" }));
  expect((await screen.findByRole("alert")).textContent).toContain("8 characters or more");
  expect(sent).toEqual([["PUT", "/password", { password: "short" }]]);
});

test("keys are added by their line and removed by their fingerprint", async () => {
  view({ keys: [KEY] });
  await screen.findByText("SHA256:a/b+c");
  fireEvent.change(screen.getByLabelText(/^Add one/), { target: { value: " ssh-ed25519 AAAA boat\n" } });
  fireEvent.click(screen.getByRole("button", { name: "Add key" }));
  await waitFor(() => expect(sent).toEqual([["POST", "/keys", { key: "ssh-ed25519 AAAA boat" }]]));
  fireEvent.click(screen.getByRole("button", { name: "Remove key SHA256:a/b+c" }));
  await waitFor(() => expect(sent[1]).toEqual(["DELETE", "/keys/SHA256:a/b+c", null]));
});
