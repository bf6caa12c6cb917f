// @vitest-environment jsdom
import { screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { type Sent, service, shown } from "../testing/helpers";
import { AdministratorsPage } from "./AdministratorsPage";

const PEOPLE = [
  {
    name: "olga",
    role: "owner",
    area: null,
    reads: "area",
    has_password: true,
    added: "2026-11-20T08:00:00Z",
    added_by: "drawknife serve",
  },
  {
    name: "pim",
    role: "editor",
    area: ["unit:fleet"],
    reads: "area",
    has_password: false,
    added: "2026-11-20T08:00:00Z",
    added_by: "olga",
  },
];
const TOKENS = [
  {
    id: 4,
    administrator: "olga",
    kind: "token",
    called: "night-report",
    role: "reader",
    made: "2026-11-20T08:00:00Z",
    last_day: null,
    last_used: null,
  },
];

let sent: Sent[];
beforeEach(() => {
  sent = service(({ path, method }) => {
    if (path === "/administrators" && method === "GET") return [200, { administrators: PEOPLE }];
    if (path === "/tokens") return [200, { tokens: TOKENS }];
    if (path.endsWith("/link"))
      return [200, { administrator: "pim", path: "/sign-in#dk_x", until: "2026-11-27T08:00:00Z" }];
    if (method === "DELETE" && path === "/administrators/olga")
      return [409, { title: "", detail: "olga is the last owner", places: [] }];
    return [200, { ended: 1 }];
  });
  shown(
    <MemoryRouter>
      <AdministratorsPage />
    </MemoryRouter>,
  );
});
afterEach(() => vi.unstubAllGlobals());

const row = async (text: string) =>
  within((await screen.findAllByText(text))[0]?.closest('[role="row"]') as HTMLElement);

test("another role and area are saved as they are written", async () => {
  const user = userEvent.setup({ delay: null });
  await user.click((await row("pim")).getByRole("button", { name: "Edit" }));
  const area = await screen.findByLabelText("area");
  expect((area as HTMLTextAreaElement).value).toBe("unit:fleet");
  await user.clear(area);
  await user.type(area, "store:survey\ngroup:boats");
  await user.click(screen.getByLabelText("reads everything"));
  await user.click(screen.getByRole("button", { name: "Save" }));
  await waitFor(() => expect(sent.map((s) => s.method)).toContain("PATCH"));
  expect(sent.find((s) => s.method === "PATCH")).toMatchObject({
    path: "/administrators/pim",
    body: { role: "editor", area: ["store:survey", "group:boats"], reads: "everything" },
  });
});

test("the last owner stays, and it is said", async () => {
  const user = userEvent.setup({ delay: null });
  await user.click((await row("olga")).getByRole("button", { name: "Edit" }));
  await user.click(await screen.findByRole("button", { name: "Remove…" }));
  expect(sent.some((s) => s.method === "DELETE")).toBe(false);
  await user.click(screen.getByRole("button", { name: "Remove" }));
  expect((await screen.findByRole("alert")).textContent).toContain("olga is the last owner");
});

test("a link is shown once, and a token is ended", async () => {
  const user = userEvent.setup({ delay: null });
  await user.click((await row("pim")).getByRole("button", { name: "Sign-in link" }));
  expect(((await screen.findByLabelText("Link")) as HTMLInputElement).value).toContain("/sign-in#dk_x");
  await user.click((await row("night-report")).getByRole("button", { name: "End" }));
  await waitFor(() => expect(sent.map((s) => `${s.method} ${s.path}`)).toContain("DELETE /tokens/4"));
});
