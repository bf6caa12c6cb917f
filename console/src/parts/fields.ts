import type { Change, ChangeKind, Item } from "../api";
import { declaredAs, type Field } from "./declared";
import { lineValue, textOf } from "./lines";

/** Is an item of this kind called by a field that is changed like any other? Then it has no name to be given. */
export const nameless = (kind: ChangeKind) => kind === "virtual-path" || kind === "network";

/** The fields of a kind of item that can be edited. What it is called by is changed by a rename. */
export function fieldsOf(kind: ChangeKind): Field[] {
  const { key, fields } = declaredAs(kind);
  return fields.filter((f) => !["source", "source_id"].includes(f.name) && (nameless(kind) || f.name !== key));
}

export type Draft = Record<string, string>;

/** An item as text in fields: lists a line each, yes and no as words, nothing as nothing. */
export function drafted(fields: Field[], item: Item): Draft {
  const draft: Draft = {};
  for (const f of fields) {
    const value = item[f.name];
    if (value === undefined || value === null) draft[f.name] = "";
    else if (Array.isArray(value)) draft[f.name] = value.map(textOf).join("\n");
    else draft[f.name] = typeof value === "boolean" ? (value ? "yes" : "no") : String(value);
  }
  return draft;
}

function valueFrom(field: Field, text: string): unknown {
  if (field.kind === "lines") {
    const lines = text.split("\n").map((line) => line.trim());
    return lines.filter((line) => line !== "").map((line) => lineValue(field, line));
  }
  if (text.trim() === "") return null;
  if (field.kind === "yes-no") return text === "yes";
  return /^\d+$/.test(text.trim()) ? Number(text.trim()) : text.trim();
}

/** What has to be sent to make of `before` what stands in the fields: only what is different. */
export function changesOf(
  kind: ChangeKind,
  name: string,
  fields: Field[],
  before: Draft,
  draft: Draft,
  to: string,
): Change[] {
  const set: Item = {};
  for (const f of fields) {
    if (draft[f.name] !== before[f.name]) {
      const value = valueFrom(f, draft[f.name] ?? "");
      // An emptied list of an endpoint is a list without lines; elsewhere, and for settings, it is the default.
      set[f.name] = Array.isArray(value) && value.length === 0 && kind === "setting" ? null : value;
    }
  }
  const changes: Change[] = [];
  if (Object.keys(set).length) changes.push({ op: "change", kind, name, set });
  if (to !== name) changes.push({ op: "rename", kind, name, to });
  return changes;
}

/** The item that the fields describe. */
export function itemOf(kind: ChangeKind, name: string, fields: Field[], draft: Draft): Change {
  const item: Item = kind === "folder" || nameless(kind) ? {} : { [declaredAs(kind).key]: name };
  for (const f of fields) {
    const value = valueFrom(f, draft[f.name] ?? "");
    if (value !== null && !(Array.isArray(value) && value.length === 0)) item[f.name] = value;
  }
  return { op: "add", kind, item, ...(kind === "folder" || kind === "unit" ? { name } : {}) };
}
