// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test } from "vitest";
import { askIn } from "../past";
import { type Sent, service, shown } from "../testing/helpers";
import { IdleParts } from "./Idle";

const PART = (number: number, guards: boolean) => ({
  number,
  kind: "entry",
  at: `survey:/charts/${number}`,
  says: guards ? "deny unit:partners all" : "allow group:boats read",
  reasons: ["one", "two", "three", "four"],
  guards,
  change: { op: "change", kind: "folder", name: `survey:/charts/${number}`, drop: { entries: ["x"] } },
});
let sent: Sent[];
let parts: object[];
let leftOut: string[];
beforeEach(() => {
  parts = [PART(1, false), PART(2, true)];
  leftOut = [];
  sent = service(({ method }) =>
    method === "GET" ? [200, { revision: 9, idle: parts, left_out: leftOut }] : [200, { revision: 10, changed: true }],
  );
});
afterEach(() => askIn(null));

test("it is looked for when asked, told with three reasons, and one is taken away at that revision", async () => {
  shown(<IdleParts />);
  expect(sent).toEqual([]);
  await userEvent.click(screen.getByRole("button", { name: "Look for it" }));
  await screen.findByText("survey:/charts/1");
  expect(screen.getAllByText("three")).toHaveLength(2);
  expect(screen.queryByText("four")).toBeNull();
  expect(screen.getAllByText("and 1 more")).toHaveLength(2);
  expect(screen.getAllByText(/◆ refuses/)).toHaveLength(1);
  await userEvent.click(screen.getByRole("button", { name: "Take away: allow group:boats read at survey:/charts/1" }));
  await waitFor(() => expect(sent.some((s) => s.method === "POST")).toBe(true));
  const post = sent.find((s) => s.method === "POST");
  expect(post?.path).toBe("/changes");
  expect(post?.revision).toBe('"9"');
  expect(post?.body).toMatchObject({ changes: [{ name: "survey:/charts/1" }] });
});

test("all of it goes into the draft that is open", async () => {
  askIn("spring");
  shown(<IdleParts />);
  await userEvent.click(screen.getByRole("button", { name: "Look for it" }));
  await userEvent.click(await screen.findByRole("button", { name: "Take all of it away in spring" }));
  await waitFor(() => expect(sent.some((s) => s.method === "POST")).toBe(true));
  const post = sent.find((s) => s.method === "POST");
  expect(post?.path).toBe("/drafts/spring/changes");
  expect(post?.body).toMatchObject({ changes: [{ name: "survey:/charts/1" }, { name: "survey:/charts/2" }] });
});

test("that everything has an effect is only said of what was looked at", async () => {
  parts = [];
  leftOut = ["not looked at: 3 memberships"];
  shown(<IdleParts />);
  await userEvent.click(screen.getByRole("button", { name: "Look for it" }));
  await screen.findByText("Nothing that was looked at is without effect.");
  expect(screen.queryByText("Everything has an effect.")).toBeNull();
});
