import { expect, test } from "vitest";
import { changesOf, drafted, fieldsOf, itemOf } from "./fields";

const schema = {
  properties: {
    accounts: {
      items: {
        required: ["name"],
        properties: {
          name: { type: "string" },
          kind: { enum: ["person", "service"] },
          enabled: { type: "boolean" },
          methods: { type: "array", items: { type: "string" } },
          expires: { type: "string", description: "its last day" },
          source: { type: "string" },
        },
      },
    },
    quotas: { items: { properties: { name: { type: "string" }, hard_files: { type: "integer" } } } },
  },
};
const fields = fieldsOf(schema, "account");

test("fields come from the schema, without the name and what a directory says", () => {
  expect(fields.map((f) => [f.name, f.kind])).toEqual([
    ["kind", "choice"],
    ["enabled", "yes-no"],
    ["methods", "lines"],
    ["expires", "text"],
  ]);
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
  const quota = fieldsOf(schema, "quota");
  expect(itemOf("quota", "pool", quota, { hard_files: "20" })).toEqual({
    op: "add",
    kind: "quota",
    item: { name: "pool", hard_files: 20 },
  });
});
