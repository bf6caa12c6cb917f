import type { ChangeKind } from "../api";
import declared from "../generated/kinds.json";

export interface Field {
  name: string;
  about: string;
  kind: string;
  choices: string[];
  required: boolean;
  names: string | null;
  word: string;
  /** Of a line that names somebody: the key of the mapping that it can be, and what it is made of. */
  parts: string[];
}

interface Declared {
  title: string;
  key: string;
  renamed: boolean;
  fields: Field[];
}

/** The keys of items that hold a size: usage, too, which comes as a whole. */
export const SIZES = new Set([
  "bytes",
  ...Object.values(declared.kinds).flatMap((kind) => kind.fields.filter((f) => f.kind === "size").map((f) => f.name)),
]);

/** A kind of item as it is declared in the core. */
export const declaredAs = (kind: ChangeKind): Declared => declared.kinds[kind];
