import { Button, Group, Stack, Text, VisuallyHidden } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, GET, named, type Pattern } from "../api";
import { PatternForm } from "../parts/PatternForm";
import { Loaded } from "../parts/states";
import { CredentialsView } from "./CredentialsView";
import { HandoverView } from "./HandoverView";

const PATTERN = "first-server";
/** What a model has to hold for a step to have been done, in the order of the pattern's steps. */
const MADE: string[][] = [["stores"], ["accounts", "groups"], ["endpoints"], ["virtual_paths"], ["quotas"]];

/** Is there nothing yet that anybody could come to? */
export const isBegun = (counts: Record<string, number>) =>
  ["stores", "accounts", "endpoints", "virtual_paths"].every((kind) => counts[kind]);

/** From an empty model to a server with somebody on it: one short form after the other, then what they get. */
export function FirstServer({ counts }: { counts: Record<string, number> }) {
  const query = useQuery({
    queryKey: ["pattern", PATTERN],
    queryFn: () => answer(GET("/api/v1/patterns/{name}", { params: { path: { name: PATTERN } } })),
  });
  return <Loaded query={query}>{(pattern) => <Steps pattern={pattern} counts={counts} />}</Loaded>;
}

function Steps({ pattern, counts }: { pattern: Pattern; counts: Record<string, number> }) {
  const made = pattern.steps.map((_, i) => (MADE[i] ?? []).every((kind) => counts[kind]));
  const first = made.indexOf(false);
  const [chosen, setChosen] = useState<number | null>(null);
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const [skipped, setSkipped] = useState(false);
  const last = pattern.steps.length;
  const next = first === -1 || (skipped && first === last - 1) ? last : first;
  const open = chosen ?? next;
  return (
    <section className="sheet" aria-label="A first server">
      <div className="row head" style={{ gridTemplateColumns: "1fr", height: 36 }}>
        A first server, step by step
      </div>
      <div style={{ display: "grid", gridTemplateColumns: "250px minmax(0, 1fr)", minHeight: 300 }}>
        <Stack gap={2} p={10} style={{ borderRight: "1px solid var(--edge)" }}>
          {[...pattern.steps.map((s) => s.does), "Try it as them"].map((does, i) => (
            <button
              key={does}
              type="button"
              className="step"
              aria-current={i === open ? "step" : undefined}
              onClick={() => setChosen(i)}
            >
              <span aria-hidden="true" className={made[i] ? "good" : "quiet"}>
                {made[i] ? "●" : "○"}
              </span>
              {i + 1}. {does}
              {made[i] && <VisuallyHidden>, done</VisuallyHidden>}
            </button>
          ))}
          <Text fz="xs" className="quiet" px={10} pt={10}>
            Or{" "}
            <Link className="plain" to={`/patterns/${PATTERN}`}>
              all at once
            </Link>
            ; people from a{" "}
            <Link className="plain" to="/directories">
              directory
            </Link>
            .
          </Text>
        </Stack>
        <div style={{ padding: 16, minWidth: 0 }}>
          {open < last ? (
            <PatternForm
              key={open}
              pattern={pattern}
              step={open + 1}
              answers={answers}
              setAnswers={setAnswers}
              done={() => setChosen(open + 1)}
            />
          ) : (
            <TryIt account={answers.account} />
          )}
          {open === last - 1 && (
            <Button
              variant="subtle"
              size="compact-xs"
              mt={12}
              onClick={() => {
                setSkipped(true);
                setChosen(last);
              }}
            >
              No limit for now
            </Button>
          )}
        </div>
      </div>
    </section>
  );
}

/** What the first account signs in with, and the sheet that it gets. */
function TryIt({ account }: { account?: string }) {
  const accounts = useQuery({
    queryKey: ["accounts", "first"],
    queryFn: () => answer(GET("/api/v1/accounts", { params: { query: { limit: 1 } } })),
    enabled: !account,
  });
  const name = account ?? accounts.data?.accounts[0]?.name;
  if (!name) {
    return (
      <Text fz="sm" className="quiet">
        There is nobody to try it as: make the first account in step 2.
      </Text>
    );
  }
  return (
    <Stack gap={12}>
      <Group gap={14} fz="sm">
        <Link className="plain" to={`/accounts/${named(name)}?show=access`}>
          What {name} can do, everywhere
        </Link>
        <Link className="plain" to="/endpoints">
          Ask whether {name} gets in
        </Link>
        <Link className="plain" to="/rehearsal">
          Try it with a real client
        </Link>
      </Group>
      <CredentialsView account={name} />
      <HandoverView account={name} />
    </Stack>
  );
}
