// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, beforeEach, expect, test } from "vitest";
import { askIn } from "../past";
import { QUIET, type Sent, service, shown } from "../testing/helpers";
import { PatternPage } from "./PatternsPage";

const PATTERN = {
  name: "library",
  about: "A folder that one group reads.",
  asks: [
    { key: "who", asks: "Who reads it", kind: "subject", example: "group:night-watch", default: null, optional: false },
    {
      key: "location",
      asks: "Where they see it",
      kind: "location",
      example: "/exchange",
      default: "/library",
      optional: false,
    },
    { key: "room", asks: "How much fits into it", kind: "size", example: "20 GiB", default: null, optional: true },
  ],
  given: { who: "group:crew" },
  can: ["ada download /library/tides.pdf"],
  cannot: ["ada upload /library/tides.pdf"],
};
const CHANGE = { op: "change", kind: "folder", name: "survey:/library" };
let sent: Sent[];
let wrong: object[];
beforeEach(() => {
  wrong = [];
  sent = service(({ path, method }) => {
    if (method === "GET") return [200, PATTERN];
    if (path.startsWith("/patterns/") && wrong.length) return [400, { title: "", detail: "no", places: wrong }];
    if (path.startsWith("/patterns/")) return [200, { revision: 9, says: ["x"], changes: [CHANGE] }];
    if (path.startsWith("/changes/preview")) return [200, QUIET];
    return [200, { revision: 10, changed: true }];
  });
  shown(
    <MemoryRouter initialEntries={["/patterns/library"]}>
      <Routes>
        <Route path="/patterns/:name" element={<PatternPage />} />
        <Route path="*" element={<p>gone on</p>} />
      </Routes>
    </MemoryRouter>,
  );
});
afterEach(() => askIn(null));

const button = (name: string) => screen.getByRole("button", { name });

test("what holds is told first; what follows is shown before it is done, at the revision that was looked at", async () => {
  await screen.findByText("ada download /library/tides.pdf");
  expect(button("Show what follows")).toHaveProperty("disabled", true); // who is not answered
  await userEvent.type(screen.getByLabelText("Who reads it"), "group:crew");
  await userEvent.click(button("Show what follows"));
  await userEvent.click(await screen.findByRole("button", { name: "Do it" }));
  await screen.findByText("gone on");
  const [asked, previewed, done] = sent.filter((s) => s.method === "POST");
  expect(asked?.body).toEqual({ answers: { who: "group:crew" } }); // those by default are left out
  expect(previewed?.body).toMatchObject({ changes: [CHANGE] });
  expect(done).toMatchObject({ path: "/changes", revision: '"9"', body: { changes: [CHANGE] } });
});

test("a wrong answer is told at its question, and nothing is done", async () => {
  wrong = [{ where: "room", message: "'much' is no size", expected: "40 GiB" }];
  await userEvent.type(await screen.findByLabelText("Who reads it"), "group:crew");
  await userEvent.type(screen.getByLabelText("How much fits into it"), "much");
  await userEvent.click(button("Show what follows"));
  await screen.findByText("'much' is no size");
  expect(screen.queryByRole("button", { name: "Do it" })).toBeNull();
  expect(sent.filter((s) => s.method === "POST")).toHaveLength(1);
});

test("an answer that is changed afterwards is looked at again; and in a draft it goes into that", async () => {
  askIn("spring");
  await userEvent.type(await screen.findByLabelText("Who reads it"), "group:crew");
  await userEvent.click(button("Show what follows"));
  await screen.findByRole("button", { name: "Put it in spring" });
  await userEvent.type(screen.getByLabelText("Where they see it"), "/books");
  expect(screen.queryByRole("button", { name: "Put it in spring" })).toBeNull();
  await userEvent.click(button("Show what follows"));
  await userEvent.click(await screen.findByRole("button", { name: "Put it in spring" }));
  await waitFor(() => expect(sent.some((s) => s.path.startsWith("/drafts/spring/changes"))).toBe(true));
});
