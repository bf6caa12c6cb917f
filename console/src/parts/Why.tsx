import { ActionIcon, Group, Stack, Text } from "@mantine/core";
import { IconX } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import {
  type Answer,
  answer,
  type Explanation,
  examplePath,
  GET,
  type Judgement,
  POST,
  type Right,
  type State,
} from "../api";
import { usePast } from "../past";
import { Code, Note } from "./Line";
import { Mending } from "./Mending";
import { PlaceLink } from "./marks";
import { Loaded } from "./states";
import { moment } from "./time";

interface Props {
  account: string;
  right: Right;
  location: string;
  endpoint?: string;
  state: State;
  close: () => void;
}

/** Why a right is as it is at a location: the verdict, all obstacles, and every entry's part. */
export function Why({ account, right, location, endpoint, state, close }: Props) {
  // What is allowed on one's own only is explained for one's own, with what differs for others told above.
  const owner = state === "own" ? account : undefined;
  const path = examplePath(location, right);
  return <WhyAsked question={{ account, action: right, path, owner, endpoint }} state={state} close={close} />;
}

/** The same of a question as it was asked. */
export function WhyAsked({ question, state, close }: { question: Asked; state: State; close: () => void }) {
  const { account, action, path, to, owner, endpoint } = question;
  const query = useQuery({
    queryKey: ["why", question],
    queryFn: () => answer(POST("/api/v1/decisions", { body: { ...question, explain: true } })),
    retry: false,
  });
  return (
    <div
      style={{
        padding: "12px 18px 16px",
        background: "var(--paper)",
        borderTop: "1px solid var(--edge)",
        whiteSpace: "normal",
      }}
      role="region"
      aria-label="Why"
    >
      <Group justify="space-between" align="flex-start" wrap="nowrap">
        <Text fz="xs" className="quiet">
          May <b>{account}</b> {action} <span className="mono">{path}</span>
          {to && (
            <>
              {" "}
              to <span className="mono">{to}</span>
            </>
          )}
          {owner ? (owner === account ? ", which it owns" : `, which ${owner} owns`) : ""}
          {endpoint ? (path === undefined ? ` at ${endpoint}` : ` through ${endpoint}`) : ""}?
        </Text>
        <ActionIcon variant="subtle" color="gray" size="sm" onClick={close} aria-label="Close why">
          <IconX size={15} />
        </ActionIcon>
      </Group>
      <Loaded query={query}>{(answer) => <Told answer={answer} state={state} />}</Loaded>
      <Mending question={question} stop={state !== "no"} />
      {path !== undefined && <Since question={{ account, action, path, to, owner, endpoint }} />}
    </div>
  );
}

function Told({ answer, state }: { answer: Answer; state: State }) {
  const told = answer.explanation;
  if (!told) return null;
  const further = told.obstacles.slice(1);
  return (
    <Stack gap={12}>
      <div>
        <Text fw={650} className={answer.allowed ? "good" : "bad"}>
          {answer.allowed ? "✓ Allowed" : `✕ Refused by the ${answer.gate} gate`}
          {state === "own" && " — but not for what others own"}
          {state === "others" && " — but not for what it owns itself"}
        </Text>
        <Text fz="sm">
          <Code text={answer.text} />
        </Text>
      </div>
      {further.length > 0 && (
        <div>
          <Text fz="xs" fw={650}>
            Also in the way, once that is mended
          </Text>
          {further.map((o) => (
            <Text fz="sm" key={o.gate + o.text}>
              <span className="state-own">{o.gate}:</span> <Code text={o.text} />
            </Text>
          ))}
        </div>
      )}
      <Gates told={told} />
      {told.checks
        .flatMap((check) => [...check.blocked, check.judgement])
        .map((j) => (
          <JudgementView key={j.right + j.place} judgement={j} />
        ))}
    </Stack>
  );
}

export interface Asked {
  account: string;
  action: Right;
  path?: string;
  to?: string;
  owner?: string;
  endpoint?: string;
  size?: number;
}

/** Since when it is so, and what made it so; asked for only where somebody wants to know. */
function Since({ question }: { question: Asked & { path: string } }) {
  const [asked, setAsked] = useState(false);
  const query = useQuery({
    queryKey: ["when", question],
    queryFn: () => answer(GET("/api/v1/when", { params: { query: question } })),
    enabled: asked,
    retry: false,
  });
  if (usePast() !== null) return null;
  if (!asked) {
    return (
      <button type="button" className="link" style={{ marginTop: 10 }} onClick={() => setAsked(true)}>
        Since when?
      </button>
    );
  }
  return (
    <section aria-label="Since when" style={{ fontSize: 13, marginTop: 10 }}>
      {query.error && <span className="bad">{query.error.message}</span>}
      {query.isFetching && "…"}
      {query.data?.turns.map((turn, i) => (
        <div key={turn.at}>
          <span className={turn.allowed ? "good" : turn.allowed === null ? "quiet" : "bad"}>
            {turn.allowed === null
              ? "– was not there"
              : turn.allowed
                ? `● ${i ? "could" : "can"}`
                : `✕ ${i ? "could not" : "cannot"}`}
          </span>{" "}
          <span className="quiet">since {moment(turn.at)}</span>{" "}
          {turn.revision !== null
            ? `${turn.what}, by ${turn.who} (revision ${turn.revision})`
            : i === (query.data?.turns.length ?? 0) - 1
              ? query.data?.history_start
                ? "at this time or earlier"
                : "as it was at first"
              : "as something ended"}
        </div>
      ))}
      {query.data && <div className="quiet">{query.data.notes[0]}</div>}
    </section>
  );
}

function Gates({ told }: { told: Explanation }) {
  return (
    <Group gap={6} fz="xs">
      {told.gates.map((gate) => {
        const refuses = gate.obstacles.length > 0;
        const idle = !gate.asked || gate.notes.some((n) => n.includes("cannot be evaluated") || n === "nothing to ask");
        const sign = idle ? "–" : refuses ? "✕" : "✓";
        return (
          <span
            key={gate.gate}
            className={idle ? "quiet" : refuses ? "bad" : "good"}
            title={gate.notes.join("; ") || undefined}
            style={{
              border: "1px solid var(--edge)",
              borderRadius: 4,
              padding: "1px 8px",
              background: "var(--sheet)",
            }}
          >
            {sign} {gate.gate}
            {!gate.asked && " not asked"}
          </span>
        );
      })}
      {told.locations.map(
        (at) =>
          at.virtual_path && (
            <span key={at.location} className="quiet">
              <span className="mono">{at.location}</span> is <span className="mono">{at.place}</span>, at most{" "}
              <Link className="plain" to={`/virtual-paths?path=${encodeURIComponent(at.virtual_path)}`}>
                {at.ceiling}
              </Link>
            </span>
          ),
      )}
    </Group>
  );
}

const SIGNS: Record<string, string> = { decides: "▶", agrees: "=", overruled: "×" };

function JudgementView({ judgement }: { judgement: Judgement }) {
  const levels = judgement.levels.filter((l) => l.entries.length || l.sealed || l.up === 0);
  return (
    <div>
      <Text fz="sm" fw={650}>
        <span className={judgement.allowed ? "good" : "bad"}>{judgement.allowed ? "✓" : "✕"}</span> {judgement.right}
        <span className="quiet" style={{ fontWeight: 400 }}>
          {judgement.own === true ? " on one's own" : judgement.own === false ? " on what is not one's own" : ""} in{" "}
        </span>
        <PlaceLink place={judgement.place} />
      </Text>
      {levels.map((level) => (
        <div key={level.place} style={{ marginTop: 4, paddingLeft: 16 }}>
          <Text fz="xs" className="quiet">
            <PlaceLink place={level.place} />
            {level.owner && ` · owner ${level.owner}`}
            {level.sealed && " · sealed: nothing comes down into it"}
            {!level.entries.length && (level.recorded ? " · no entries" : " · not recorded")}
          </Text>
          {level.entries.map((e) => (
            <div key={e.entry} className="entry" data-fate={e.fate} data-idle={!(e.fate in SIGNS)}>
              <span>{SIGNS[e.fate] ?? "·"}</span>
              <span className="mono">{e.entry}</span>
              <Text span fz="xs" className="quiet">
                {e.by ? `${e.fate} by ${e.by}` : e.fate}
                {e.chain.length > 2 && ` · ${e.chain.slice(1).join(" › ")}`}
                {e.fate !== "other subject" && <Note note={e.note} />}
              </Text>
            </div>
          ))}
        </div>
      ))}
    </div>
  );
}
