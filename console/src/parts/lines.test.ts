import { expect, test } from "vitest";
import type { Field } from "./declared";
import { fieldsOf } from "./fields";
import { lineFrom, lineValue, partsOf, sentence, textOf } from "./lines";

const field = (kind: "folder" | "virtual-path" | "group" | "endpoint", name: string) =>
  fieldsOf(kind).find((f) => f.name === name) as Field;
const ENTRIES = field("folder", "entries");
const GRANTS = field("virtual-path", "grants");
const MEMBERS = field("group", "members");

test.each([
  [ENTRIES, "allow group:boats read,append below", "allow group:boats read,append below"],
  [ENTRIES, { line: "deny anyone all", until: "2031-03-31" }, "deny anyone all until 2031-03-31"],
  [GRANTS, { line: "signed-in change", note: "for all # of us" }, "signed-in change # for all # of us"],
  [
    MEMBERS,
    { member: "account:odile", until: "2031-03-31", note: "while away" },
    "account:odile until 2031-03-31 # while away",
  ],
])("a line of the model, as text and back", (of, value, text) => {
  expect(textOf(value)).toBe(text);
  expect(lineValue(of, text)).toEqual(value);
  expect(lineFrom(of, partsOf(of, text))).toBe(text);
});

test("parts can be chosen in any order: what is missing keeps its place", () => {
  const begun = { ...partsOf(ENTRIES, "allow"), rights: ["read", "append"] };
  expect(lineFrom(ENTRIES, begun)).toBe("allow ? read,append");
  expect(partsOf(ENTRIES, "allow ? read,append")).toMatchObject({ subject: "", rights: ["read", "append"] });
  expect(sentence(ENTRIES, begun)).toBe("");
});

test.each([
  [
    ENTRIES,
    "forbid unit:partners upload",
    "unit:partners may never upload here and in everything below; nothing below can undo that.",
  ],
  [ENTRIES, "allow owner change children", "Whoever owns the thing acted on may change in the folders directly below."],
  [
    GRANTS,
    "group:boats read until 2031-03-31",
    "group:boats sees this path, and can do at most this through it: read, until 2031-03-31.",
  ],
  [MEMBERS, "account:odile", "account:odile is in the group."],
  [field("endpoint", "entries"), "deny account:yuki upload", "account:yuki may not upload at this endpoint."],
])("what a line means", (of, text, meaning) => {
  expect(sentence(of, partsOf(of, text))).toBe(meaning);
});
