import { useSyncExternalStore } from "react";
import declared from "./generated/kinds.json";

/** Of which model the console asks: null, today's; else a revision or a time that has been. Kept for the tab. */
let asOf: string | null = globalThis.sessionStorage?.getItem("as-of") || null;
const listeners = new Set<() => void>();
const ROUTES = declared.of_the_past.map((pattern) => new RegExp(pattern));

export function askOf(past: string | null) {
  asOf = past || null;
  if (asOf) globalThis.sessionStorage?.setItem("as-of", asOf);
  else globalThis.sessionStorage?.removeItem("as-of");
  for (const listener of listeners) listener();
}

const subscribe = (listener: () => void) => {
  listeners.add(listener);
  return () => listeners.delete(listener);
};

/** The past that is looked at; null: today. */
export const usePast = () => useSyncExternalStore(subscribe, () => asOf);

/** The address of a question, with the past that it is asked of, where that can be. */
export function ofThePast(address: string): string {
  const url = new URL(address);
  if (asOf !== null && ROUTES.some((route) => route.test(url.pathname))) url.searchParams.set("as_of", asOf);
  return url.href;
}
