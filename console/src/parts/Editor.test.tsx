// @vitest-environment jsdom
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { fireEvent, render, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { ChangeKind, Preview } from "../api";
import { AddButton, EditButton } from "./Editor";

const PREVIEW: Partial<Preview> = {
  revision: 7,
  item_count: 1,
  items: [],
  nothing: true,
  summary: ["nobody gains or loses anything"],
  come: [],
  gone: [],
  sign_in: [],
  access: [],
  leads: [],
  settings: [],
  room: [],
  new_findings: [],
  mended: [],
  without_effect: [],
  notes: [],
  left_out: [],
};

let sent: { method: string; path: string; body: unknown; revision: string | null }[];
let answers: Record<string, [number, unknown]>;

beforeEach(() => {
  sent = [];
  answers = {
    "POST /changes/preview": [200, PREVIEW],
    "POST /changes": [200, { revision: 8, changed: true, followed: [], notes: [], item_count: 1, items: [] }],
    "GET /accounts": [200, { total: 2, accounts: [{ name: "ines" }, { name: "ingrid" }] }],
    "GET /units": [200, { units: [{ path: "fleet/inshore" }, { path: "shore/lab" }] }],
  };
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = new URL(request.url).pathname.replace("/api/v1", "");
    const body = request.method === "GET" ? null : await request.json();
    sent.push({ method: request.method, path, body, revision: request.headers.get("If-Match") });
    const [status, answer] = answers[`${request.method} ${path}`] ?? [
      404,
      { detail: `no ${path}`, title: "", places: [] },
    ];
    return new Response(JSON.stringify(answer), { status });
  });
});
afterEach(() => vi.unstubAllGlobals());

function shown(children: React.ReactNode) {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  render(
    <QueryClientProvider client={client}>
      <MantineProvider env="test">{children}</MantineProvider>
    </QueryClientProvider>,
  );
  return userEvent.setup({ delay: null });
}

async function opened(kind: ChangeKind, name: string, item: Record<string, unknown>) {
  answers["GET /item"] = [200, { item, named_by: [] }];
  const user = shown(<EditButton kind={kind} name={name} />);
  await user.click(screen.getByRole("button", { name: /^Edit/ }));
  await screen.findByRole("button", { name: "Save" });
  return user;
}

test("only what was changed is sent, for the revision whose consequences were seen", async () => {
  const user = await opened("account", "ines", { display: "Inês", methods: ["key", "password"], unit: "shore/lab" });
  const save = screen.getByRole("button", { name: "Save" }) as HTMLButtonElement;
  expect(save.disabled).toBe(true);
  await user.clear(screen.getByLabelText(/^display/));
  await user.type(screen.getByLabelText(/^display/), "Inês C.");
  await screen.findByText(/Nothing follows|nobody gains or loses|No account/i);
  await waitFor(() => expect(save.disabled).toBe(false));
  await user.click(save);
  const changes = [{ op: "change", kind: "account", name: "ines", set: { display: "Inês C." } }];
  await waitFor(() => expect(sent.some((x) => x.path === "/changes")).toBe(true));
  expect(sent.find((x) => x.path === "/changes")).toEqual({
    method: "POST",
    path: "/changes",
    body: { changes },
    revision: '"7"',
  });
});

test("what the service refuses is told with the place and the nearest name, and cannot be saved", async () => {
  answers["POST /changes/preview"] = [
    409,
    {
      title: "The change cannot be done",
      detail: "there is no unit 'shore/leb'",
      places: [{ where: "changes[0]", message: "there is no unit 'shore/leb'", nearest: "shore/lab" }],
    },
  ];
  const user = await opened("account", "ines", {});
  await user.type(screen.getByRole("combobox", { name: "unit" }), "shore/leb");
  const alert = await screen.findByRole("alert");
  expect(alert.textContent).toContain("did you mean shore/lab?");
  expect((screen.getByRole("button", { name: "Save" }) as HTMLButtonElement).disabled).toBe(true);
});

test("a unit is picked from those that there are", async () => {
  const user = await opened("account", "ines", {});
  await user.type(screen.getByRole("combobox", { name: "unit" }), "lab");
  const option = await screen.findByRole("option", { name: "shore/lab", hidden: true });
  await user.click(option);
  expect((screen.getByRole("combobox", { name: "unit" }) as HTMLInputElement).value).toBe("shore/lab");
});

test("a day is a field for days, a choice one of its words", async () => {
  await opened("account", "ines", { expires: "2031-04-30", kind: "service" });
  expect((screen.getByLabelText(/^expires/) as HTMLInputElement).type).toBe("date");
  expect((screen.getByLabelText(/^expires/) as HTMLInputElement).value).toBe("2031-04-30");
  expect((screen.getByRole("combobox", { name: "kind" }) as HTMLInputElement).value).toBe("service");
});

test("removing asks, and can strike out the lines that name an account", async () => {
  const user = await opened("account", "ines", {});
  await user.click(screen.getByRole("button", { name: "Remove…" }));
  await user.click(screen.getByLabelText(/Strike out/));
  await waitFor(() =>
    expect(sent.at(-1)?.body).toEqual({ changes: [{ op: "remove", kind: "account", name: "ines", everywhere: true }] }),
  );
  await user.click(screen.getByRole("button", { name: "Keep it" }));
  expect(screen.queryByLabelText(/Strike out/)).toBeNull();
});

test("networks are one item that can be changed and not removed", async () => {
  await opened("network", "network", { inside: ["192.0.2.0/24"], openings: [], forwardings: [] });
  expect(screen.queryByRole("button", { name: "Remove…" })).toBeNull();
  fireEvent.change(screen.getByLabelText(/^inside/), { target: { value: "192.0.2.0/24\n198.51.100.0/24" } });
  await waitFor(() =>
    expect(sent.at(-1)?.body).toEqual({
      changes: [
        { op: "change", kind: "network", name: "network", set: { inside: ["192.0.2.0/24", "198.51.100.0/24"] } },
      ],
    }),
  );
});

test("a lockout is added for one of two words", async () => {
  const user = shown(<AddButton kind="lockout" />);
  await user.click(screen.getByRole("button", { name: "Add lockout" }));
  const dialog = await screen.findByRole("dialog");
  await user.click(within(dialog).getByRole("combobox", { name: "of" }));
  await user.click(await screen.findByRole("option", { name: "address", hidden: true }));
  await user.type(within(dialog).getByLabelText(/^failures/), "5");
  await waitFor(() =>
    expect(sent.at(-1)?.body).toEqual({
      changes: [{ op: "add", kind: "lockout", item: { of: "address", failures: 5 } }],
    }),
  );
});
