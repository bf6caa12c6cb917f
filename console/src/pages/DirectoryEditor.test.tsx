// @vitest-environment jsdom
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor } from "@testing-library/react";
import { afterEach, expect, test, vi } from "vitest";
import type { Directory } from "../api";
import { DirectoryButton } from "./DirectoryEditor";

const BUREAU = {
  name: "bureau",
  options: { address: "ldaps://ldap.example", people_base: "ou=people", start_tls: true, interval: 0, suffix: "@b" },
  has_password: true,
} as unknown as Directory;
let sent: [string, string, unknown][];

function shown(directory?: Directory, refuse?: { detail: string; places: { where: string; message: string }[] }) {
  sent = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const url = new URL(request.url);
    const text = await request.text();
    sent.push([request.method, url.pathname.replace("/api/v1", "") + url.search, text ? JSON.parse(text) : null]);
    if (refuse) return new Response(JSON.stringify({ title: "", ...refuse }), { status: 400 });
    return request.method === "DELETE" ? new Response(null, { status: 204 }) : new Response("{}");
  });
  render(
    <QueryClientProvider client={new QueryClient()}>
      <MantineProvider env="test">
        <DirectoryButton directory={directory} />
      </MantineProvider>
    </QueryClientProvider>,
  );
  fireEvent.click(screen.getByRole("button"));
}
afterEach(() => vi.unstubAllGlobals());
const put = (label: RegExp, value: string) => fireEvent.change(screen.getByLabelText(label), { target: { value } });

test("a new directory is sent with what was filled in, and not before it has an address and a base", async () => {
  shown();
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
  shown(BUREAU);
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
  shown(BUREAU);
  fireEvent.click(await screen.findByRole("button", { name: "Remove…" }));
  fireEvent.click(screen.getByLabelText(/becomes local/));
  fireEvent.click(screen.getByRole("button", { name: "Remove" }));
  await waitFor(() => expect(sent).toEqual([["DELETE", "/directories/bureau?keep=false", null]]));
});

test("what is refused is told with its place", async () => {
  shown(BUREAU, {
    detail: "see places for each mistake",
    places: [{ where: "options.address", message: "no such host" }],
  });
  put(/^address/, "ldap://x");
  fireEvent.click(await screen.findByRole("button", { name: "Save" }));
  expect((await screen.findByRole("alert")).textContent).toContain("options.address: no such host");
});
