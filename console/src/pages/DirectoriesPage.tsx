import { Button, Group, Text } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { answer, type Directory, GET, POST, type SyncReport } from "../api";
import { Consequences } from "../parts/Consequences";
import { Page } from "../parts/Shell";
import { Failed, Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { moment } from "../parts/time";
import { DirectoryButton } from "./DirectoryEditor";

const STATES: Record<SyncReport["state"], [string, string]> = {
  preview: ["○ would be synced", ""],
  done: ["● synced", "good"],
  "nothing-to-do": ["● synced, nothing to do", "good"],
  refused: ["▲ refused", "state-own"],
  failed: ["✕ failed", "bad"],
};

const counts = (of: "accounts" | "groups" | "units", track: string): Column<Directory> => ({
  head: of,
  track,
  by: (d) => d[of],
  show: (d) => d[of].toLocaleString("en"),
});

/** How often, or when, it is synced. */
const kept = (d: Directory) =>
  d.options.address === "scim:"
    ? d.options.shown_first
      ? "sent by SCIM, waits for a sync"
      : "sent by SCIM, counts at once"
    : d.options.interval
      ? `every ${d.options.interval} s`
      : "on demand";

const COLUMNS: Column<Directory>[] = [
  { head: "directory", track: "minmax(110px, 1fr)", by: (d) => d.name, show: (d) => <b>{d.name}</b> },
  {
    head: "address",
    track: "minmax(160px, 1.5fr)",
    by: (d) => String(d.options.address),
    show: (d) => <span className="mono">{String(d.options.address)}</span>,
  },
  counts("accounts", "80px"),
  counts("groups", "70px"),
  counts("units", "60px"),
  { head: "synced", track: "minmax(110px, 1fr)", by: kept, show: kept },
  {
    head: "last",
    track: "minmax(200px, 1.5fr)",
    by: (d) => d.last?.at,
    show: (d) => <LastSync report={d.last} />,
  },
];

function LastSync({ report }: { report: SyncReport | null }) {
  if (!report) return <span className="quiet">never synced here</span>;
  const [label, style] = STATES[report.state] ?? [report.state, ""];
  return (
    <>
      <span className={style}>{label}</span> <span className="quiet">{moment(report.at)}</span>
    </>
  );
}

/** The directories, their last syncs, and what a sync of one would do now. */
export function DirectoriesPage() {
  const [search] = useSearchParams();
  const [matching, filter] = useFilter("Filter directories", "Part of a name, an address");
  const query = useQuery({
    queryKey: ["directories"],
    queryFn: () => answer(GET("/api/v1/directories")),
  });
  const asked = search.get("preview") ?? search.get("of");
  return (
    <Page
      title="Directories"
      beside={
        <Group gap={10}>
          <DirectoryButton />
          {filter}
        </Group>
      }
    >
      <Loaded query={query}>
        {({ directories }) => {
          const chosen = directories.find((d) => d.name === asked) ?? directories[0];
          return (
            <>
              <div style={{ flexShrink: 0 }}>
                <Table
                  label="Directories"
                  rows={directories}
                  columns={COLUMNS}
                  keyOf={(d) => d.name}
                  matching={matching}
                  to={(d) => `/directories?${new URLSearchParams({ of: d.name })}`}
                  chosen={(d) => d === chosen}
                  one="directory"
                  none="There is no directory yet: add one, and people, groups and units come from LDAP, an LDIF file, or by SCIM."
                />
              </div>
              {chosen && <OneDirectory key={chosen.name} directory={chosen} />}
            </>
          );
        }}
      </Loaded>
    </Page>
  );
}

function OneDirectory({ directory }: { directory: Directory }) {
  const [search, setSearch] = useSearchParams();
  const showing = search.get("preview") === directory.name;
  const mine = { of: directory.name };
  const client = useQueryClient();
  const [adopt, setAdopt] = useState<string[]>([]);
  const preview = useQuery({
    queryKey: ["sync-preview", directory.name, adopt],
    queryFn: () =>
      answer(
        POST("/api/v1/directories/{name}/sync/preview", {
          params: { path: { name: directory.name } },
          body: { adopt },
        }),
      ),
    enabled: showing,
    retry: false,
  });
  const sync = useMutation({
    mutationFn: () =>
      answer(POST("/api/v1/directories/{name}/sync", { params: { path: { name: directory.name } }, body: { adopt } })),
    onSettled: () => {
      setAdopt([]);
      setSearch(mine, { replace: true });
      return client.invalidateQueries();
    },
  });
  return (
    <section className="sheet" style={{ padding: "14px 18px" }} aria-label={`Directory ${directory.name}`}>
      <Group justify="space-between" align="flex-start" wrap="nowrap">
        <div>
          <Text fw={650}>{directory.name}</Text>
          <Text fz="sm" className="quiet">
            one sync may take at most {String(directory.options.most_leavers)} % of people, groups, units, memberships
            or access
          </Text>
        </div>
        <Group gap={8} wrap="nowrap">
          <DirectoryButton directory={directory} />
          <Button
            size="xs"
            variant="default"
            onClick={() => setSearch(showing ? mine : { preview: directory.name }, { replace: true })}
          >
            {showing ? "Hide" : "What would a sync do?"}
          </Button>
          <Button
            size="xs"
            loading={sync.isPending}
            disabled={!directory.confirmed && !showing}
            title={directory.confirmed || showing ? undefined : "Review the first sync before you apply it"}
            onClick={() => sync.mutate()}
          >
            {directory.confirmed ? "Sync now" : "Apply first sync"}
          </Button>
        </Group>
      </Group>
      {sync.error && <Failed error={sync.error} />}
      {directory.last && !showing && <Report report={directory.last} />}
      {!directory.last && !showing && (
        <Text fz="sm" className="quiet" mt={8}>
          {directory.options.interval && !directory.confirmed
            ? "Nothing is read at its interval before the first sync. Review it, then apply it."
            : "It was never synced here."}
        </Text>
      )}
      {showing && (
        <Loaded query={preview}>
          {(told) => (
            <div style={{ display: "grid", gridTemplateColumns: "1fr 1fr", gap: 28 }}>
              <div>
                <Report report={told.report} hand={(subject) => setAdopt([...adopt, subject])} />
                {adopt.length > 0 && (
                  <Text fz="sm" mt={8}>
                    Handed over with this sync: <span className="mono">{adopt.join(", ")}</span>{" "}
                    <Button size="compact-xs" variant="subtle" onClick={() => setAdopt([])}>
                      Do not
                    </Button>
                  </Text>
                )}
              </div>
              {told.changes && (
                <section aria-label="What follows" style={{ marginTop: 12 }}>
                  <Text fw={650} fz="sm" mb={8}>
                    What follows
                  </Text>
                  <Consequences preview={told.changes} />
                </section>
              )}
            </div>
          )}
        </Loaded>
      )}
    </section>
  );
}

/** What a sync did or would do; `hand` hands over what is here already, such as account:ines. */
function Report({ report, hand }: { report: SyncReport; hand?: (subject: string) => void }) {
  const [label, style] = STATES[report.state] ?? [report.state, ""];
  return (
    <div style={{ fontSize: 13, marginTop: 12 }} role={report.state === "failed" ? "alert" : undefined}>
      <div>
        <b className={style}>{label}</b>
        {report.state !== "nothing-to-do" && <span>: {report.text}</span>}
        {report.state !== "preview" && (
          <span className="quiet">
            {" "}
            · {moment(report.at)}, {report.who}
          </span>
        )}
      </div>
      {report.people + report.groups + report.units > 0 && (
        <div className="quiet">
          it has {report.people} people, {report.groups} groups, {report.units} units
        </div>
      )}
      {Object.entries(report.counts).map(([what, count]) => (
        <div key={what} style={{ marginTop: 4 }}>
          <b>{count}</b> {count === 1 ? what.replace(/s /, " ") : what}:{" "}
          <span className="quiet">{(report.named[what] ?? []).join(", ")}</span>
        </div>
      ))}
      {(
        [
          ["left alone, as the name exists here", report.left_alone],
          ["left out", report.left_out],
          ["noted", report.notes],
        ] as const
      ).map(
        ([what, lines]) =>
          lines.length > 0 && (
            <div key={what} style={{ marginTop: 8 }}>
              <span className="state-own">▲ {what}</span>
              {lines.map((line) => (
                <div key={line} style={{ paddingLeft: 14 }}>
                  {line}
                  {hand && what.startsWith("left alone") && /^(account|group) /.test(line) && (
                    <Button
                      size="compact-xs"
                      variant="subtle"
                      aria-label={`Hand over ${line}`}
                      onClick={() => hand(line.replace(" ", ":"))}
                    >
                      Hand it over
                    </Button>
                  )}
                </div>
              ))}
            </div>
          ),
      )}
    </div>
  );
}
