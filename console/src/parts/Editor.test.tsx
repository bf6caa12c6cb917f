// @vitest-environment jsdom
import { fireEvent, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import type { ChangeKind } from "../api";
import { QUIET, type Sent, service, shown } from "../testing/helpers";
import { AddButton, EditButton } from "./Editor";

let sent: Sent[];
let answers: Record<string, [number, unknown]>;

beforeEach(() => {
  answers = {
    "POST /changes/preview": [200, QUIET],
    "POST /changes": [200, { revision: 8, changed: true, followed: [], notes: [], item_count: 1, items: [] }],
    "GET /accounts": [200, { total: 2, accounts: [{ name: "ines" }, { name: "ingrid" }] }],
    "GET /groups": [200, { total: 1, groups: [{ name: "sonar-lab" }] }],
    "GET /units": [200, { units: [{ path: "fleet/inshore" }, { path: "shore/lab" }] }],
    "GET /stores": [200, { stores: [{ name: "survey" }] }],
  };
  sent = service(({ method, path }) => {
    const asked = `${method} ${path.split("?")[0]}`;
    return answers[asked] ?? [404, { detail: `no ${path}`, title: "", places: [] }];
  });
});
afterEach(() => vi.unstubAllGlobals());

async function opened(kind: ChangeKind, name: string, item: Record<string, unknown>) {
  const user = userEvent.setup({ delay: null });
  answers["GET /item"] = [200, { item, named_by: [] }];
  shown(<EditButton kind={kind} name={name} />);
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
  const user = userEvent.setup({ delay: null });
  shown(<AddButton kind="lockout" />);
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

test("an entry is built from choices, says what it means, and can be typed", async () => {
  const user = await opened("folder", "survey:/charts", { path: "/charts", entries: ["deny anyone upload"] });
  await user.click(screen.getByRole("button", { name: "Add entry" }));
  await user.type(screen.getByRole("combobox", { name: "subject" }), "group:sonar-lab");
  await user.click(screen.getByRole("combobox", { name: "rights" }));
  fireEvent.click(await screen.findByRole("option", { name: "read", hidden: true }));
  fireEvent.change(screen.getByLabelText("until"), { target: { value: "2031-03-31" } });
  await user.type(screen.getAllByLabelText("note")[0] as HTMLElement, "for the survey");
  const meaning = screen.getByLabelText("What it means");
  expect(meaning.textContent).toBe("group:sonar-lab may read here and in everything below, until 2031-03-31.");
  const typed = screen.getByLabelText("as a line") as HTMLInputElement;
  expect(typed.value).toBe("allow group:sonar-lab read until 2031-03-31 # for the survey");
  fireEvent.change(typed, { target: { value: typed.value.replace("read", "read here") } });
  expect(meaning.textContent).toContain("in this folder only");
  await user.click(screen.getByRole("button", { name: "Take away entry deny anyone upload" }));
  const line = { line: "allow group:sonar-lab read here", until: "2031-03-31", note: "for the survey" };
  await waitFor(() =>
    expect(sent.findLast((x) => x.path === "/changes/preview")?.body).toEqual({
      changes: [{ op: "change", kind: "folder", name: "survey:/charts", set: { entries: [line] } }],
    }),
  );
});
