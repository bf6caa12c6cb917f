import { Stack, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useRef } from "react";
import { Link } from "react-router";
import { answer, GET, type Overview } from "../api";
import { IdleParts } from "../parts/Idle";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";
import { FirstServer, isBegun } from "./FirstServer";

const COUNTS: [string, string, string][] = [
  ["accounts", "accounts", "/accounts"],
  ["groups", "groups", "/groups"],
  ["stores", "stores", "/stores"],
  ["folders", "recorded folders", "/stores"],
  ["entries", "entries", "/stores"],
  ["virtual_paths", "virtual paths", "/virtual-paths"],
  ["endpoints", "endpoints", "/endpoints"],
];
/** Where a line stands: a group, a folder, a virtual path, or an endpoint. */
function lineAt(about: string): string {
  if (about.startsWith("group:")) return `/subjects/${encodeURIComponent(about)}`;
  if (about.startsWith("/")) return `/virtual-paths?path=${encodeURIComponent(about)}`;
  return about.includes(":/") ? `/stores?place=${encodeURIComponent(about)}` : "/endpoints";
}

const KINDS: Record<string, [string, (about: string) => string]> = {
  "endpoint-clash": ["An endpoint does not start", () => "/endpoints"],
  "path-ambiguous": ["A virtual path leads two ways", (about) => `/virtual-paths?path=${encodeURIComponent(about)}`],
  "path-unusable": ["A virtual path cannot be used", (about) => `/virtual-paths?path=${encodeURIComponent(about)}`],
  "grant-without-enter": ["A grant is of no use", (about) => `/virtual-paths?path=${encodeURIComponent(about)}`],
  "group-loop": ["Groups hold each other", (about) => `/subjects/${encodeURIComponent(`group:${about}`)}`],
  "dangling-name": [
    "A name that is gone",
    (about) => (about.startsWith("/") ? "/virtual-paths" : `/stores?place=${encodeURIComponent(about)}`),
  ],
  "data-out-of-reach": ["Data does not come through", (about) => `/endpoints?endpoint=${encodeURIComponent(about)}`],
  certificate: ["A certificate", (about) => `/endpoints?endpoint=${encodeURIComponent(about)}`],
  "passive-range-small": ["Too few passive ports", (about) => `/endpoints?endpoint=${encodeURIComponent(about)}`],
  "account-expires": ["An account expires", (about) => `/accounts/${encodeURIComponent(about)}`],
  "account-expired": ["An account expired", (about) => `/accounts/${encodeURIComponent(about)}`],
  "disk-refuses": [
    "A disk refuses what the server lets",
    (about) => `/stores?place=${encodeURIComponent(`${about}:/`)}`,
  ],
  "trial-turned": ["A trial is not as expected", () => "/trials"],
  "promise-broken": ["A promise is broken", () => "/promises"],
  "line-ended": ["A line has ended", lineAt],
  "line-ends": ["A line ends soon", lineAt],
  "limit-nearly-full": ["A limit is nearly full", () => "/limits"],
  "limit-soft": ["A soft limit is passed", () => "/limits"],
  overcommitted: ["More given away than there is", () => "/limits"],
  "sync-failed": ["A sync failed", () => "/directories"],
  "no-credential": ["Nothing to sign in with", (about) => `/accounts/${encodeURIComponent(about)}`],
  "no-certificate": ["No certificate", (about) => `/endpoints?endpoint=${encodeURIComponent(about)}`],
  "names-alike": ["Names that look alike", () => "/accounts"],
  "setting-undecided": ["A setting is set two ways", (about) => `/accounts/${encodeURIComponent(about)}?show=standing`],
};

export function OverviewPage() {
  const query = useQuery({ queryKey: ["overview"], queryFn: () => answer(GET("/api/v1/overview")) });
  // It stays until the page is left, and is not gone as soon as its last step is done.
  const setting = useRef(false);
  return (
    <Page title="Overview">
      <Loaded query={query}>
        {(data) => {
          setting.current ||= !isBegun(data.counts);
          return (
            <Stack gap={18}>
              {setting.current && <FirstServer counts={data.counts} />}
              {Object.values(data.counts).some((n) => n > 0) ? (
                <>
                  <Counts counts={data.counts} />
                  <Findings overview={data} />
                  <IdleParts />
                </>
              ) : (
                <Text fz="sm" className="quiet">
                  There is nothing in the model yet. A whole one comes from a file:{" "}
                  <code className="mono">drawknife load FILE</code>.
                </Text>
              )}
              <Text fz="xs" className="quiet">
                Revision {data.revision} is in force.
              </Text>
            </Stack>
          );
        }}
      </Loaded>
    </Page>
  );
}

function Counts({ counts }: { counts: Overview["counts"] }) {
  return (
    <div
      style={{
        display: "grid",
        gridTemplateColumns: "repeat(auto-fit, minmax(120px, 1fr))",
        gap: 10,
      }}
    >
      {COUNTS.map(([key, label, to]) => (
        <Link
          key={key}
          to={to}
          className="sheet"
          style={{ padding: "12px 14px", textDecoration: "none", color: "inherit" }}
        >
          <Text fz={22} fw={650} style={{ fontVariantNumeric: "tabular-nums" }}>
            {(counts[key] ?? 0).toLocaleString("en")}
          </Text>
          <Text fz="xs" className="quiet">
            {label}
          </Text>
        </Link>
      ))}
    </div>
  );
}

function Findings({ overview: data }: { overview: Overview }) {
  return (
    <>
      <section className="sheet" aria-label="What wants a decision now">
        <div className="row head" style={{ gridTemplateColumns: "1fr", height: 36 }}>
          What wants a decision now
        </div>
        {data.findings.length === 0 && (
          <Empty>
            {data.not_looked_at.length
              ? "Nothing that was looked at wants a decision."
              : "All is well: nothing wants a decision."}
          </Empty>
        )}
        {data.findings.map((f) => {
          const [title, to] = KINDS[f.kind] ?? [f.kind, () => "/"];
          return (
            <Link
              key={f.text}
              to={to(f.about)}
              className="row"
              style={{
                gridTemplateColumns: "24px 230px 1fr",
                padding: "9px 14px",
                color: "inherit",
                textDecoration: "none",
              }}
            >
              <span className="state-own">▲</span>
              <b style={{ whiteSpace: "normal", fontSize: 13.5 }}>{title}</b>
              <span style={{ whiteSpace: "normal", fontSize: 13.5 }}>{f.text}</span>
            </Link>
          );
        })}
      </section>
      {data.not_looked_at.length > 0 && (
        <Text fz="xs" className="quiet">
          Not looked at: {data.not_looked_at.join("; ")}.
        </Text>
      )}
    </>
  );
}
