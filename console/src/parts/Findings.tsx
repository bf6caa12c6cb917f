import { Button, Group, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { answer, DELETE, type Finding, type Overview, PUT } from "../api";
import { usePast } from "../past";
import { Empty } from "./states";
import { useHasNoArea, useMay } from "./who";

const SEVERITIES: Record<Finding["severity"], string> = {
  "stops-people": "Stops people now",
  risk: "Risk",
  "tidy-up": "Tidy up",
};

/** Where a line stands: a group, a folder, a virtual path, or an endpoint. */
function lineAt(about: string): string {
  if (about.startsWith("group:")) return `/subjects/${encodeURIComponent(about)}`;
  if (about.startsWith("/")) return virtualPath(about);
  return about.includes(":/") ? folder(about) : "/endpoints";
}
const account = (about: string) => `/accounts/${encodeURIComponent(about)}`;
const endpoint = (about: string) => `/endpoints?endpoint=${encodeURIComponent(about)}`;
const folder = (about: string) => `/stores?place=${encodeURIComponent(about)}`;
const virtualPath = (about: string) => `/virtual-paths?path=${encodeURIComponent(about)}`;

const KINDS: Record<string, [string, (about: string) => string]> = {
  "account-expired": ["Expired account", account],
  "account-expires": ["Account expires soon", account],
  certificate: ["Certificate", endpoint],
  "dangling-name": ["Missing name", (about) => (about.startsWith("/") ? "/virtual-paths" : folder(about))],
  "data-out-of-reach": ["Data connections not forwarded", endpoint],
  "disk-refuses": ["Refused by the disk", (about) => folder(`${about}:/`)],
  "endpoint-clash": ["Port conflict", () => "/endpoints"],
  "endpoint-port-taken": ["Port taken", () => "/endpoints"],
  "folder-without-account": ["Folder without an account", folder],
  "grant-of-no-use": ["Grant without effect", virtualPath],
  "grant-without-enter": ["Grant without enter", virtualPath],
  "group-loop": ["Loop of groups", (about) => `/subjects/${encodeURIComponent(`group:${about}`)}`],
  "limit-nearly-full": ["Limit nearly full", () => "/limits"],
  "limit-soft": ["Soft limit exceeded", () => "/limits"],
  "line-ended": ["Expired line", lineAt],
  "line-ends": ["Line expires soon", lineAt],
  "names-alike": ["Names that look alike", () => "/accounts"],
  "no-certificate": ["No certificate", endpoint],
  "no-credential": ["No credentials", account],
  overcommitted: ["Overcommitted store", () => "/limits"],
  "owner-cannot-enter": ["Owner kept out", folder],
  "passive-range-small": ["Too few passive ports", endpoint],
  "path-ambiguous": ["Ambiguous virtual path", virtualPath],
  "path-renamed": ["Renamed folder", () => "/virtual-paths"],
  "path-unusable": ["Unusable virtual path", virtualPath],
  "promise-broken": ["Broken promise", () => "/promises"],
  "setting-undecided": ["Setting set in two ways", (about) => `${account(about)}?show=standing`],
  "sync-failed": ["Failed synchronisation", () => "/directories"],
  "sync-waits": ["First synchronisation waits", () => "/directories"],
  "trial-not-as-expected": ["Failing trial", () => "/trials"],
  "trial-turned": ["Failing trial", () => "/trials"],
};

/** What needs attention, the most pressing first; and how much of it somebody accepts. */
export function Findings({ overview: data }: { overview: Overview }) {
  const [accepted, setAccepted] = useState(false);
  return (
    <>
      <section className="sheet" aria-label="Needs attention">
        <div className="row head" style={{ gridTemplateColumns: "1fr", height: 36 }}>
          Needs attention
        </div>
        {data.findings.length === 0 && (
          <Empty>{data.not_looked_at.length ? "Nothing found in what was checked." : "Nothing needs attention."}</Empty>
        )}
        {data.findings.map((f, i) => (
          <div key={f.kind + f.about + f.text}>
            {f.severity !== data.findings[i - 1]?.severity && <div className="severity">{SEVERITIES[f.severity]}</div>}
            <Row finding={f} />
          </div>
        ))}
        {data.accepted.length > 0 && (
          <div style={{ padding: "8px 14px" }}>
            <Button
              size="compact-xs"
              variant="subtle"
              aria-expanded={accepted}
              onClick={() => setAccepted((shown) => !shown)}
            >
              {data.accepted.length} accepted
            </Button>
          </div>
        )}
        {accepted && data.accepted.map((f) => <Row key={f.kind + f.about + f.text} finding={f} />)}
      </section>
      {data.not_looked_at.length > 0 && (
        <Text fz="xs" className="quiet">
          Not checked: {data.not_looked_at.join("; ")}.
        </Text>
      )}
    </>
  );
}

function Row({ finding: f }: { finding: Finding }) {
  const [title, to] = KINDS[f.kind] ?? [f.kind, () => "/"];
  const [accepting, setAccepting] = useState(false);
  const isEditor = useMay("editor");
  const may = useHasNoArea() && isEditor;
  const past = usePast();
  const client = useQueryClient();
  const reopen = useMutation({
    mutationFn: () =>
      answer(DELETE("/api/v1/findings/accepted", { params: { query: { kind: f.kind, about: f.about } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <div className="finding" data-severity={f.severity}>
      <span aria-hidden className={f.severity === "stops-people" ? "bad" : "state-own"}>
        {f.severity === "stops-people" ? "■" : f.severity === "risk" ? "▲" : "·"}
      </span>
      <Link to={to(f.about)} className="plain">
        <b>{title}</b>
      </Link>
      <div>
        <Link to={to(f.about)} className="text" tabIndex={-1}>
          {f.text}
        </Link>
        {f.accepted && (
          <div className="quiet">
            Accepted until {f.accepted.until} by {f.accepted.who}: {f.accepted.note}
          </div>
        )}
        {accepting && <Accept finding={f} close={() => setAccepting(false)} />}
      </div>
      {may && past === null && (
        <Button
          size="compact-xs"
          variant="subtle"
          loading={reopen.isPending}
          aria-label={`${f.accepted ? "Show again" : "Accept"}: ${title}, ${f.about}`}
          onClick={() => (f.accepted ? reopen.mutate() : setAccepting((open) => !open))}
        >
          {f.accepted ? "Show again" : "Accept…"}
        </Button>
      )}
    </div>
  );
}

function Accept({ finding, close }: { finding: Finding; close: () => void }) {
  const [until, setUntil] = useState("");
  const [note, setNote] = useState("");
  const client = useQueryClient();
  const accept = useMutation({
    mutationFn: () =>
      answer(
        PUT("/api/v1/findings/accepted", {
          body: { kind: finding.kind, about: finding.about, until, note: note.trim() },
        }),
      ),
    onSuccess: async () => {
      await client.invalidateQueries();
      close();
    },
  });
  return (
    <form
      aria-label="Accept the finding"
      onSubmit={(event) => {
        event.preventDefault();
        accept.mutate();
      }}
    >
      <Group gap="xs" align="end" mt={6}>
        <TextInput
          size="xs"
          type="date"
          label="Until"
          value={until}
          onChange={(e) => setUntil(e.currentTarget.value)}
        />
        <TextInput size="xs" label="Why" w={260} value={note} onChange={(e) => setNote(e.currentTarget.value)} />
        <Button size="xs" type="submit" disabled={!until || !note.trim()} loading={accept.isPending}>
          Accept finding
        </Button>
      </Group>
      {accept.error && (
        <div role="alert" className="bad">
          {accept.error.message}
        </div>
      )}
    </form>
  );
}
