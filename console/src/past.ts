import { useSyncExternalStore } from "react";
import declared from "./generated/kinds.json";

/**
 * Of which model the console asks, and what is changed: today's; that of a revision or a time that has been; or as it
 * would be with a draft, which changes then go into. Kept for the tab.
 */
type Asked = { as_of: string } | { draft: string } | null;
let asked: Asked = JSON.parse(globalThis.sessionStorage?.getItem("asked") || "null");
const listeners = new Set<() => void>();
const patterns = (some: string[]) => some.map((pattern) => new RegExp(pattern));
const ROUTES = { as_of: patterns(declared.of_the_past), draft: patterns(declared.in_drafts) };

function ask(of: Asked) {
  asked = of;
  if (asked) globalThis.sessionStorage?.setItem("asked", JSON.stringify(asked));
  else globalThis.sessionStorage?.removeItem("asked");
  for (const listener of listeners) listener();
}

export const askOf = (past: string | null) => ask(past ? { as_of: past } : null);
export const askIn = (draft: string | null) => ask(draft ? { draft } : null);

const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

/** The past that is looked at; null: none. */
export const usePast = () => useSyncExternalStore(subscribe, () => (asked && "as_of" in asked ? asked.as_of : null));

/** The draft that is open; null: none. */
export const useDraft = () => useSyncExternalStore(subscribe, () => (asked && "draft" in asked ? asked.draft : null));

/** The address of a question, with the past or the draft that it is asked of, where that can be. */
export function ofThePast(address: string): string {
  const url = new URL(address);
  for (const [name, value] of Object.entries(asked ?? {})) {
    if (ROUTES[name as keyof typeof ROUTES].some((route) => route.test(url.pathname)))
      url.searchParams.set(name, value);
  }
  return url.href;
}
