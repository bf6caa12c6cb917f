import { expect, test } from "vitest";
import { changesOf, drafted, fieldsOf, itemOf } from "./fields";

const fields = fieldsOf("account").filter((f) => ["kind", "enabled", "methods", "expires"].includes(f.name));

test("fields are those that are declared, without the name and what a directory says", () => {
  expect(fields.map((f) => [f.name, f.kind])).toEqual([
    ["kind", "choice"],
    ["enabled", "yes-no"],
    ["expires", "day"],
    ["methods", "lines"],
  ]);
  expect(fieldsOf("account").some((f) => ["name", "source"].includes(f.name))).toBe(false);
  expect(fieldsOf("unit").map((f) => f.name)).toEqual(["note"]);
  expect(fieldsOf("virtual-path").map((f) => f.name)).toEqual(["path", "leads_to", "listing", "grants", "note"]);
  expect(fieldsOf("network").map((f) => f.name)).toEqual(["inside", "openings", "forwardings"]);
});

test("only what is different is sent, and a rename comes last", () => {
  const before = drafted(fields, { kind: "person", methods: ["key", "password"], expires: "2031-04-30" });
  expect(before).toEqual({ kind: "person", enabled: "", methods: "key\npassword", expires: "2031-04-30" });
  expect(changesOf("account", "ines", fields, before, before, "ines")).toEqual([]);
  const draft = { ...before, methods: "key\n\n", expires: "", enabled: "no" };
  expect(changesOf("account", "ines", fields, before, draft, "inez")).toEqual([
    { op: "change", kind: "account", name: "ines", set: { enabled: false, methods: ["key"], expires: null } },
    { op: "rename", kind: "account", name: "ines", to: "inez" },
  ]);
});

test("a new item has what was filled in, numbers as numbers", () => {
  const quota = fieldsOf("quota");
  expect(itemOf("quota", "pool", quota, { hard_files: "20" })).toEqual({
    op: "add",
    kind: "quota",
    item: { name: "pool", hard_files: 20 },
  });
});
