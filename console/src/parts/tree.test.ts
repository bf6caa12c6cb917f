import { expect, test } from "vitest";
import { examplePath } from "../api";
import { foldColumns, tail, treeLabels } from "./tree";

test("each location is labelled under the nearest one above it", () => {
  const labels = treeLabels(["/", "/charts", "/charts/drafts", "/inbox/a/b", "/inbox/a/b/c"]);
  expect(labels.map((l) => `${l.depth} ${l.label}`)).toEqual(["0 /", "1 charts", "2 drafts", "1 inbox/a/b", "2 c"]);
});

test("without a root, each top location stands for itself", () => {
  expect(treeLabels(["/charts/drafts", "/charts/drafts/x"])).toEqual([
    { depth: 0, label: "/charts/drafts" },
    { depth: 1, label: "x" },
  ]);
});

test("a question about a right acts on something in the folder, or on the folder itself", () => {
  expect(examplePath("/", "download")).toBe("/any-file");
  expect(examplePath("/inbox", "make-folder")).toBe("/inbox/new-folder");
  expect(examplePath("/inbox", "delete-folder")).toBe("/inbox");
});

test("of a long text the end is kept", () => {
  expect(tail("/inbox", 10)).toBe("/inbox");
  expect(tail("/charts/drafts/2026", 10)).toBe("…afts/2026");
  expect(tail("/charts/drafts/2026", 10)).toHaveLength(10);
});

test("a column that is as the one above for every row is counted there; opened, it stands by itself", () => {
  const locations = ["/a", "/a/b", "/a/b/c", "/a/d", "/e"];
  const cells = [
    ["yes", "yes", "yes", "no", "yes"],
    ["no", "no", "no", "no", "no"],
  ];
  expect(foldColumns(locations, cells, new Set())).toEqual({ shown: [0, 3, 4], below: [2, 0, 0] });
  expect(foldColumns(locations, cells, new Set(["/a"])).shown).toEqual([0, 1, 2, 3, 4]);
  cells[1] = ["no", "own", "no", "no", "no"];
  expect(foldColumns(locations, cells, new Set()).shown).toEqual([0, 1, 2, 3, 4]);
  expect(foldColumns([], [], new Set())).toEqual({ shown: [], below: [] });
});
