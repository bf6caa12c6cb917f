import { createContext, type ReactNode, useContext } from "react";
import type { SignedIn } from "../api";
import { useDraft } from "../past";

const ROLES = ["reader", "drafter", "editor", "owner"];
const Who = createContext<SignedIn | null>(null);

/** Whoever is signed in, for all that is shown below. */
export function WhoIs({ who, children }: { who: SignedIn; children: ReactNode }) {
  return <Who.Provider value={who}>{children}</Who.Provider>;
}

/** May whoever is signed in do what takes a role? Where nobody is known, it is left to the service. */
export function useMay(role: "drafter" | "editor" | "owner"): boolean {
  const who = useContext(Who);
  return who === null || ROLES.indexOf(who.role) >= ROLES.indexOf(role);
}

/** Can they read everything, and not only what is in their area? */
export function useReadsEverything(): boolean {
  const who = useContext(Who);
  return who === null || who.reads === "everything";
}

/** Can they change what lies in no area? */
export function useHasNoArea(): boolean {
  const who = useContext(Who);
  return who === null || who.area === null;
}

/** May they change the model here: in force, or in the draft that is open? */
export function useMayChange(): boolean {
  const draft = useDraft();
  return useMay(draft === null ? "editor" : "drafter");
}
