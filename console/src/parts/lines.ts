import declared from "../generated/kinds.json";
import type { Field } from "./declared";

/** A line that names somebody, as a person writes it: `allow group:boats read until 2031-03-31 # why it is there`. */
export interface Parts {
  effect: string;
  subject: string;
  rights: string[];
  reach: string;
  until: string;
  note: string;
}

export const EFFECTS = ["allow", "deny", "forbid"];
export const REACHES = ["tree", "here", "below", "children"];
export const RIGHT_WORDS = [...declared.bundles, ...declared.rights];

/** What stands for a part that is not chosen yet, before one that is. */
const MISSING = "?";

/** A line of the model, which is text or a mapping, as one line of text. */
export function textOf(value: unknown): string {
  if (value === null || typeof value !== "object") return String(value);
  const line = value as Record<string, string>;
  const said = line.line ?? line.member ?? "";
  return said + (line.until ? ` until ${line.until}` : "") + (line.note ? ` # ${line.note}` : "");
}

/** One line of text as the model has it: a mapping where there is an end or a note. */
export function lineValue(field: Field, text: string): unknown {
  if (!field.parts.length) return text;
  const { said, until, note } = split(text);
  if (!until && !note) return said;
  return { [field.parts[0] ?? "line"]: said, ...(until ? { until } : {}), ...(note ? { note } : {}) };
}

function split(text: string): { said: string; until: string; note: string } {
  const at = text.indexOf(" # ");
  const [before, note] = at < 0 ? [text, ""] : [text.slice(0, at), text.slice(at + 3)];
  const words = before.trim().split(/\s+/);
  const ends = words.length > 2 && words[words.length - 2] === "until";
  return {
    said: (ends ? words.slice(0, -2) : words).join(" "),
    until: ends ? (words[words.length - 1] ?? "") : "",
    note: note.trim(),
  };
}

/** The parts of a line of text, as far as they can be told. */
export function partsOf(field: Field, text: string): Parts {
  const { said, until, note } = split(text);
  const words = said.split(" ");
  const found: Parts = { effect: "", subject: "", rights: [], reach: "", until, note };
  for (const part of field.parts.slice(1)) {
    const next = words.shift() ?? "";
    const word = next === MISSING ? "" : next;
    if (part === "rights") found.rights = word.split(",").filter(Boolean);
    else found[part as "effect"] = word;
  }
  return found;
}

/** The line of text that is made of these parts. */
export function lineFrom(field: Field, parts: Parts): string {
  const words = field.parts.slice(1).map((part) => {
    if (part === "rights") return parts.rights.join(",");
    if (part === "reach") return parts.reach === "tree" ? "" : parts.reach;
    return parts[part as "effect"];
  });
  const last = words.findLastIndex((word) => word !== "");
  const said = words.slice(0, last + 1).map((word) => word || MISSING);
  if (parts.until) said.push(`until ${parts.until}`);
  if (parts.note) said.push(`# ${parts.note}`);
  return said.join(" ");
}

const WHERE: Record<string, string> = {
  tree: "here and in everything below",
  here: "in this folder only",
  below: "in everything below, and not here",
  children: "in the folders directly below",
};
const MAY: Record<string, string> = { allow: "may", deny: "may not", forbid: "may never" };

/** What a line means, in a sentence; empty while it is not whole. */
export function sentence(field: Field, parts: Parts): string {
  const has = (part: string) => field.parts.includes(part);
  if (!parts.subject || (has("rights") && !parts.rights.length) || (has("effect") && !MAY[parts.effect])) return "";
  const who = parts.subject === "owner" ? "Whoever owns the thing acted on" : parts.subject;
  const rights = parts.rights.join(", ");
  const until = parts.until ? `, until ${parts.until}` : "";
  if (!has("rights")) return `${who} is in the group${until}.`;
  if (!has("effect")) return `${who} sees this path, and can do at most this through it: ${rights}${until}.`;
  const where = has("reach") ? ` ${WHERE[parts.reach || "tree"] ?? ""}` : " at this endpoint";
  const after = parts.effect === "forbid" && has("reach") ? "; nothing below can undo that" : "";
  return `${who} ${MAY[parts.effect]} ${rights}${where}${until}${after}.`;
}
