// @vitest-environment jsdom
import { fireEvent, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Directory } from "../api";
import { service, shown } from "../testing/helpers";
import { DirectoryButton } from "./DirectoryEditor";

const BUREAU = {
  name: "bureau",
  options: { address: "ldaps://ldap.example", people_base: "ou=people", start_tls: true, interval: 0, suffix: "@b" },
  has_password: true,
} as unknown as Directory;
let sent: [string, string, unknown][];

function form(directory?: Directory, refuse?: { detail: string; places: { where: string; message: string }[] }) {
  sent = [];
  service(({ method, path, body }) => {
    sent.push([method, path, body]);
    if (refuse) return [400, { title: "", ...refuse }];
    return method === "DELETE" ? [204, null] : [200, {}];
  });
  shown(<DirectoryButton directory={directory} />);
  fireEvent.click(screen.getByRole("button"));
}
afterEach(() => vi.unstubAllGlobals());
const put = (label: RegExp, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

test("a new directory is sent with what was filled in, and not before it has an address and a base", async () => {
  form();
  const save = (await screen.findByRole("button", { name: "Save" })) as HTMLButtonElement;
  expect(save.disabled).toBe(true);
  put(/^name$/, "crew");
  put(/^address/, "crew.ldif");
  put(/^people base/, "ou=crew");
  put(/^interval/, "3600");
  put(/^bind password$/, "secret-word");
  fireEvent.click(save);
  const options = { address: "crew.ldif", people_base: "ou=crew", interval: 3600 };
  await waitFor(() =>
    expect(sent).toEqual([["POST", "/directories", { name: "crew", options, bind_password: "secret-word" }]]),
  );
});

test("of one that is there only what is different is sent; emptied options go back to their defaults", async () => {
  form(BUREAU);
  put(/^suffix/, "");
  put(/^address/, "ldaps://other.example");
  fireEvent.click(await screen.findByRole("button", { name: "Save" }));
  await waitFor(() =>
    expect(sent).toEqual([
      ["PATCH", "/directories/bureau", { options: { address: "ldaps://other.example", suffix: "" } }],
    ]),
  );
});

test("removing asks whether what came from it stays", async () => {
  form(BUREAU);
  fireEvent.click(await screen.findByRole("button", { name: "Remove…" }));
  fireEvent.click(screen.getByLabelText(/becomes local/));
  fireEvent.click(screen.getByRole("button", { name: "Remove" }));
  await waitFor(() => expect(sent).toEqual([["DELETE", "/directories/bureau?keep=false", null]]));
});

test("what is refused is told with its place", async () => {
  form(BUREAU, {
    detail: "see places for each mistake",
    places: [{ where: "options.address", message: "no such host" }],
  });
  put(/^address/, "ldap://x");
  fireEvent.click(await screen.findByRole("button", { name: "Save" }));
  expect((await screen.findByRole("alert")).textContent).toContain("options.address: no such host");
});
