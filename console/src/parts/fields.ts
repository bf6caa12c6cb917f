import type { Change, Item } from "../api";

export interface Field {
  name: string;
  about: string;
  kind: "text" | "choice" | "yes-no" | "lines";
  choices: string[];
  required: boolean;
}

interface Schema {
  type?: string | string[];
  enum?: string[];
  description?: string;
  items?: Schema;
  properties?: Record<string, Schema>;
  required?: string[];
}

const SECTIONS: Record<string, string> = {
  account: "accounts",
  group: "groups",
  store: "stores",
  folder: "stores",
  "virtual-path": "virtual_paths",
  endpoint: "endpoints",
  setting: "settings",
  quota: "quotas",
};
/** The key that an item is called by; it is changed by a rename. */
export const CALLED: Record<string, string> = { setting: "for", "virtual-path": "", folder: "path" };

/** The fields of a kind of item, from the published JSON Schema of model files. */
export function fieldsOf(schema: Schema, kind: string): Field[] {
  let item = schema.properties?.[SECTIONS[kind] ?? ""]?.items;
  if (kind === "folder") item = item?.properties?.folders?.items;
  const out: Field[] = [];
  for (const [name, key] of Object.entries(item?.properties ?? {})) {
    if (name === "source" || name === "folders" || name === (CALLED[kind] ?? "name")) continue;
    const choices = key.enum ?? [];
    const lines = key.type === "array";
    out.push({
      name,
      about: key.description ?? "",
      kind: lines ? "lines" : choices.length ? "choice" : key.type === "boolean" ? "yes-no" : "text",
      choices,
      required: item?.required?.includes(name) ?? false,
    });
  }
  return out;
}

export type Draft = Record<string, string>;

/** An item as text in fields: lists a line each, yes and no as words, nothing as nothing. */
export function drafted(fields: Field[], item: Item): Draft {
  const draft: Draft = {};
  for (const f of fields) {
    const value = item[f.name];
    if (value === undefined || value === null) draft[f.name] = "";
    else if (Array.isArray(value)) draft[f.name] = value.join("\n");
    else draft[f.name] = typeof value === "boolean" ? (value ? "yes" : "no") : String(value);
  }
  return draft;
}

function valueFrom(field: Field, text: string): unknown {
  if (field.kind === "lines") {
    const lines = text.split("\n").map((line) => line.trim());
    return lines.filter((line) => line !== "");
  }
  if (text.trim() === "") return null;
  if (field.kind === "yes-no") return text === "yes";
  return /^\d+$/.test(text.trim()) ? Number(text.trim()) : text.trim();
}

/** What has to be sent to make of `before` what stands in the fields: only what is different. */
export function changesOf(
  kind: string,
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
export function itemOf(kind: string, name: string, fields: Field[], draft: Draft): Change {
  const called = kind in CALLED ? CALLED[kind] : "name";
  const item: Item = kind === "folder" || !called ? {} : { [called]: name };
  for (const f of fields) {
    const value = valueFrom(f, draft[f.name] ?? "");
    if (value !== null && !(Array.isArray(value) && value.length === 0)) item[f.name] = value;
  }
  return { op: "add", kind, item, ...(kind === "folder" || kind === "unit" ? { name } : {}) };
}
