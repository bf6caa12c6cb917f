// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { DraftPage } from "../pages/DraftsPage";
import { askIn } from "../past";
import { QUIET, type Sent, service, shown } from "../testing/helpers";
import { DraftBanner } from "./DraftBanner";
import { Mending } from "./Mending";

const WAY = {
  number: 1,
  says: ["group night-watch: add `account:refa`"],
  changes: [{ op: "change", kind: "group", name: "night-watch", add: { members: ["account:refa"] } }],
  others: [],
  other_count: 0,
  breaks: [],
  follows: ["refa gains list at /charts"],
  alike: [{ says: ["group night-watch: add `unit:shore/office`"], changes: [] }],
};
const DRAFT = {
  revision: 9,
  draft: {
    name: "spring",
    about: null,
    begun: "2026-11-20T08:00:00Z",
    begun_by: "olga",
    writers: ["olga"],
    steps: 1,
    comments: 1,
  },
  steps: [
    {
      number: 1,
      at: "2026-11-20T08:00:00Z",
      who: "olga",
      revision: 4,
      step: {},
      says: "add unit shore/pier",
      misfit: null,
    },
  ],
  comments: [{ at: "2026-11-21T08:00:00Z", who: "pim", says: "is it meant?" }],
  preview: QUIET,
  changed_since: ["groups boats, by pim in revision 8: change group boats"],
};

let sent: Sent[];
let draft: object = DRAFT;
let refused = "";
beforeEach(() => {
  draft = DRAFT;
  refused = "";
  sent = service(({ path, method }) => {
    if (refused && method !== "GET") return [403, { title: "", detail: refused, places: [] }];
    if (path.startsWith("/mends"))
      return [200, { revision: 9, allowed: false, text: "", mends: [WAY], left_out: ["1 more way"], on_disk: [] }];
    if (method === "GET" && path.startsWith("/drafts/")) return [200, draft];
    return [200, { revision: 10, changed: true }];
  });
});
afterEach(() => {
  askIn(null);
  vi.unstubAllGlobals();
});

const question = { account: "refa", action: "list", path: "/charts" };
const page = () =>
  shown(
    <MemoryRouter initialEntries={["/drafts/spring"]}>
      <DraftBanner />
      <Routes>
        <Route path="/drafts/:name" element={<DraftPage />} />
        <Route path="*" element={<i>elsewhere</i>} />
      </Routes>
    </MemoryRouter>,
  );

test("a way is done at the revision that it was looked at with", async () => {
  const user = userEvent.setup({ delay: null });
  shown(<Mending question={question} stop={false} />);
  expect(sent).toHaveLength(0);
  await user.click(screen.getByRole("button", { name: "What would let it pass?" }));
  await screen.findByText("1 more way");
  expect(screen.getByText("unit:shore/office").parentElement?.textContent).toContain("or group night-watch");
  await user.click(screen.getByRole("button", { name: "Do it" }));
  await waitFor(() => expect(sent.map((s) => s.path)).toContain("/changes"));
  const done = sent.find((s) => s.path === "/changes");
  expect(done).toMatchObject({ method: "POST", revision: '"9"', body: { changes: WAY.changes } });
});

test("with a draft open, a way goes into it, and is asked of it", async () => {
  const user = userEvent.setup({ delay: null });
  askIn("spring");
  shown(<Mending question={question} stop={false} />);
  await user.click(screen.getByRole("button", { name: "What would let it pass?" }));
  await user.click(await screen.findByRole("button", { name: "Put in spring" }));
  await waitFor(() => expect(sent.map((s) => s.path)).toContain("/drafts/spring/changes"));
  expect(sent[0]?.path).toBe("/mends?draft=spring");
  expect(sent.some((s) => s.path === "/changes")).toBe(false);
});

test("what is refused is said", async () => {
  const user = userEvent.setup({ delay: null });
  shown(<Mending question={question} stop />);
  await user.click(screen.getByRole("button", { name: "How could it be stopped?" }));
  const button = await screen.findByRole("button", { name: "Do it" });
  refused = "this takes the role editor";
  await user.click(button);
  expect((await screen.findByRole("alert")).textContent).toContain("this takes the role editor");
});

test("a draft shows its steps, what was said and changed since, and is applied at the revision looked at", async () => {
  const user = userEvent.setup({ delay: null });
  askIn("spring");
  page();
  expect(await screen.findByText(/add unit shore\/pier/)).toBeTruthy();
  expect(screen.getByText(/is it meant\?/)).toBeTruthy();
  expect(screen.getByText(/Changed since it was written: groups boats/)).toBeTruthy();
  expect(screen.getByRole("status", { name: "The draft" }).textContent).toContain("nothing of it is in force");
  await user.click(screen.getByRole("button", { name: "Apply it" }));
  expect(await screen.findByText("elsewhere")).toBeTruthy();
  expect(sent.find((s) => s.path === "/drafts/spring/apply")?.revision).toBe('"9"');
  expect(screen.queryByRole("status", { name: "The draft" })).toBeNull();
});

test("what fits no more is told, and the draft cannot be applied until it is left out", async () => {
  const user = userEvent.setup({ delay: null });
  const misfit = { says: "there is no unit 'shore'", revision: 8, who: "pim", what: "remove unit shore" };
  draft = { ...DRAFT, preview: null, steps: [{ ...DRAFT.steps[0], misfit }] };
  page();
  expect((await screen.findByText(/there is no unit 'shore'/)).textContent).toContain(
    "since revision 8, by pim: remove unit shore",
  );
  expect((screen.getByRole("button", { name: "Apply it" }) as HTMLButtonElement).disabled).toBe(true);
  await user.click(screen.getByRole("button", { name: "Leave out" }));
  await waitFor(() => expect(sent.map((s) => `${s.method} ${s.path}`)).toContain("DELETE /drafts/spring/steps/1"));
});

test("something is said of a draft", async () => {
  const user = userEvent.setup({ delay: null });
  page();
  await user.type(await screen.findByLabelText("Comment"), "for the season");
  await user.click(screen.getByRole("button", { name: "Say it" }));
  await waitFor(() =>
    expect(sent.find((s) => s.path === "/drafts/spring/comments")?.body).toEqual({ says: "for the season" }),
  );
});
