import { Group, Select, Text } from "@mantine/core";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { answer, GET, type RehearsalLine, type RehearsalLog } from "../api";
import { useChosen } from "../parts/address";
import { Code } from "../parts/Line";
import { AccountLink } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { WhyAsked } from "../parts/Why";

/** How often it is looked for what has come, in milliseconds. */
const EVERY = 1000;
/** So many lines are shown, the newest. */
const SHOWN = 500;

const VERDICTS = [
  { value: "", label: "let and refused" },
  { value: "refused", label: "refused" },
  { value: "allowed", label: "let" },
];

function asked(line: RehearsalLine) {
  const { account, action, endpoint } = line;
  const question = { account, action, endpoint, from: line.client };
  if (action === "sign-in") return question;
  return {
    ...question,
    path: line.path ?? "/",
    to: line.to ?? undefined,
    owner: line.owner ?? undefined,
    size: line.size ?? undefined,
  };
}

/** The time in UTC; the day as well, if it was another. */
function When({ at }: { at: Date }) {
  const [date, time] = at.toISOString().split("T") as [string, string];
  const isToday = date === new Date().toISOString().slice(0, 10);
  return (
    <div title={`${date} ${time.slice(0, 8)} UTC`}>
      {time.slice(0, 8)} UTC
      {!isToday && <div className="quiet">{date}</div>}
    </div>
  );
}

/** Refused; done; or let by every rule and not done all the same, as what stands below it says. */
function Sign({ line }: { line: RehearsalLine }) {
  if (!line.allowed) return <span className="bad">✕</span>;
  if (!line.done) return <span className="state-own">○</span>;
  return <span className="good">●</span>;
}

function What({ line, open, choose }: { line: RehearsalLine; open: boolean; choose: (id: number | null) => void }) {
  return (
    <div style={{ whiteSpace: "normal" }}>
      <button
        type="button"
        className="said"
        aria-expanded={open}
        aria-label={`Why ${line.account} ${line.action} ${line.path ?? line.endpoint}`}
        onClick={() => choose(open ? null : line.id)}
      >
        <Sign line={line} /> {line.action} <span className="mono">{line.path ?? ""}</span>
        {line.to && (
          <>
            {" → "}
            <span className="mono">{line.to}</span>
          </>
        )}
      </button>
      {!line.allowed && (
        <div style={{ fontSize: 13 }}>
          <span className="bad">{line.gate}:</span> <Code text={line.text} />
        </div>
      )}
      {line.note && <div className="quiet">{line.note}</div>}
      {open &&
        (line.why ? (
          <>
            <div className="mono quiet" style={{ fontSize: 12, margin: "4px 0" }}>
              {line.why}
            </div>
            <WhyAsked question={asked(line)} state={line.allowed ? "yes" : "no"} close={() => choose(null)} />
          </>
        ) : (
          <div className="quiet">The protocol answered this; no question to the model comes to the same.</div>
        ))}
    </div>
  );
}

/** What clients do at stand-ins, as it comes: a line opens why. */
export function RehearsalPage() {
  const [matching, filter] = useFilter("Filter the log", "Part of a path, of a reason");
  const [params, put] = useChosen();
  const [open, setOpen] = useState<number | null>(null);
  const [account, endpoint, verdict] = ["account", "endpoint", "verdict"].map((key) => params.get(key) ?? "");
  const client = useQueryClient();
  const key = ["rehearsal", account, endpoint, verdict];
  const query = useQuery({
    queryKey: key,
    queryFn: async () => {
      // Only what has come since is asked for.
      const before = client.getQueryData<RehearsalLog>(key)?.lines ?? [];
      const found = await answer(
        GET("/api/v1/rehearsal/log", {
          params: {
            query: {
              after: before[0]?.id ?? 0,
              ...(account ? { account } : {}),
              ...(endpoint ? { endpoint } : {}),
              ...(verdict ? { verdict: verdict as "allowed" | "refused" } : {}),
            },
          },
        }),
      );
      return { ...found, lines: [...found.lines, ...before].slice(0, SHOWN) };
    },
    refetchInterval: EVERY,
    placeholderData: (before) => before,
  });
  const accounts = useQuery({
    queryKey: ["accounts"],
    queryFn: () => answer(GET("/api/v1/accounts", { params: { query: { limit: 200_000 } } })),
  });
  const endpoints = useQuery({ queryKey: ["endpoints"], queryFn: () => answer(GET("/api/v1/endpoints")) });
  const columns = useMemo<Column<RehearsalLine>[]>(
    () => [
      { head: "when", track: "100px", by: (x) => x.id, show: (x) => <When at={new Date(x.at)} /> },
      {
        head: "who",
        track: "190px",
        by: (x) => [x.account, x.endpoint, x.client, x.draft].join(" "),
        show: (x) => (
          <div>
            <AccountLink name={x.account} />
            <div className="quiet" style={{ fontSize: 12.5 }}>
              {x.endpoint} · <span className="mono">{x.client}</span>
              {x.draft && <div>draft {x.draft}</div>}
            </div>
          </div>
        ),
      },
      {
        head: "what",
        track: "minmax(320px, 1fr)",
        by: (x) => [x.action, x.path, x.to, x.gate, x.text].join(" "),
        show: (x) => <What line={x} open={open === x.id} choose={setOpen} />,
      },
    ],
    [open],
  );
  return (
    <Page title="Rehearsal" beside={filter}>
      <Text fz="sm" className="quiet">
        What clients do at the stand-in that <span className="mono">drawknife rehearse</span> opens, as it happens. A
        line opens why it was let or refused, as of now.
      </Text>
      <Group gap={10} my={8}>
        <Select
          label="Account"
          data={accounts.data?.accounts.map((a) => a.name) ?? []}
          value={account || null}
          onChange={(value) => put("account", value)}
          placeholder="all"
          searchable
          clearable
          w={200}
          size="xs"
        />
        <Select
          label="Endpoint"
          data={endpoints.data?.endpoints.map((e) => e.name) ?? []}
          value={endpoint || null}
          onChange={(value) => put("endpoint", value)}
          placeholder="all"
          clearable
          w={160}
          size="xs"
        />
        <Select
          label="Verdict"
          data={VERDICTS}
          value={verdict ?? ""}
          onChange={(value) => put("verdict", value)}
          allowDeselect={false}
          w={160}
          size="xs"
        />
      </Group>
      <Loaded query={query}>
        {(log) => (
          <Table
            label="Rehearsal"
            rows={log.lines}
            columns={columns}
            keyOf={(x) => String(x.id)}
            matching={matching}
            tall
            one="line"
            none="Nothing has been tried yet. Start a stand-in with drawknife rehearse, and come in with a client."
          />
        )}
      </Loaded>
    </Page>
  );
}
