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

/** A kind of item as it is declared in the core. */
export const declaredAs = (kind: ChangeKind): Declared => declared.kinds[kind];
