import { Button, Group, Text } from "@mantine/core";
import { Link } from "react-router";
import { type Account, RIGHTS, type Right, type State } from "../api";
import { Wrapped } from "./Wrapped";

export const MARKS: Record<State, string> = { yes: "●", own: "◐", others: "◑", no: "·" };
export const MEANINGS: Record<State, string> = {
  yes: "yes",
  own: "only on what it owns",
  others: "only on what it does not own",
  no: "no",
};

export function Mark({ state }: { state: State }) {
  return (
    <span className={`state-${state}`} title={MEANINGS[state]}>
      {MARKS[state]}
    </span>
  );
}

export function Legend({ children }: { children?: React.ReactNode }) {
  return (
    <Group gap={18} fz="xs" className="quiet">
      {(Object.keys(MARKS) as State[]).map((state) => (
        <span key={state}>
          <span className={`state-${state}`} style={{ fontSize: 14, opacity: 1 }}>
            {MARKS[state]}
          </span>{" "}
          {MEANINGS[state]}
        </span>
      ))}
      {children}
    </Group>
  );
}

/** The names of the rights as steps, each over its own column of `width` pixels. */
export function Stairs({ width, left, rights = RIGHTS }: { width: number; left: number; rights?: readonly Right[] }) {
  return (
    <div className="stairs" aria-hidden="true">
      {rights.map((right, i) => (
        <div
          key={right}
          className="stair quiet"
          style={{ left: left + i * width + width / 2, top: i * 16, height: 182 - i * 16 }}
        >
          {right}
        </div>
      ))}
    </div>
  );
}

export function AccountState({ account }: { account: Account }) {
  if (!account.enabled) return <span className="bad">✕ switched off</span>;
  if (account.expired) return <span className="state-own">◷ expired {account.expires}</span>;
  return <span className="good">● active</span>;
}

/** A store folder, as a link to where it stands. */
export function PlaceLink({ place }: { place: string }) {
  return (
    <Link className="plain mono" to={`/stores?place=${encodeURIComponent(place)}`}>
      <Wrapped text={place} />
    </Link>
  );
}

export function AccountLink({ name }: { name: string }) {
  return (
    <Link className="plain" to={`/accounts/${encodeURIComponent(name)}`}>
      {name}
    </Link>
  );
}

export function Chain({ chain }: { chain: string[] }) {
  const steps = chain.slice(1).filter((s) => s.includes(":"));
  if (steps.length < 1) return null;
  return (
    <Text span fz="xs" className="quiet" style={{ whiteSpace: "normal" }}>
      {steps.join(" › ")}
    </Text>
  );
}

/** Leads to a report about a folder or a group, for whoever answers for it. */
export function ReportButton({ about }: { about: string }) {
  return (
    <Button size="xs" variant="default" component={Link} to={`/reports?about=${encodeURIComponent(about)}`}>
      Report to sign
    </Button>
  );
}
