import { Button, Group, Text } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { answer, type Directory, GET, POST, type SyncReport } from "../api";
import { Consequences } from "../parts/Consequences";
import { Page } from "../parts/Shell";
import { Empty, Failed, Loaded } from "../parts/states";
import { DirectoryButton } from "./DirectoryEditor";

const STATES: Record<SyncReport["state"], [string, string]> = {
  preview: ["○ would be synced", ""],
  done: ["● synced", "good"],
  "nothing-to-do": ["● synced, nothing to do", "good"],
  refused: ["▲ refused", "state-own"],
  failed: ["✕ failed", "bad"],
};

/** The directories, their last syncs, and what a sync would do now. */
export function DirectoriesPage() {
  const query = useQuery({
    queryKey: ["directories"],
    queryFn: () => answer(GET("/api/v1/directories")),
  });
  return (
    <Page title="Directories" beside={<DirectoryButton />}>
      <Loaded query={query}>
        {(data) =>
          data.directories.length === 0 ? (
            <Empty>
              There is no directory yet: add one, and people, groups and units come from LDAP, an LDIF file, or by SCIM.
            </Empty>
          ) : (
            data.directories.map((d) => <OneDirectory key={d.name} directory={d} />)
          )
        }
      </Loaded>
    </Page>
  );
}

function OneDirectory({ directory }: { directory: Directory }) {
  const [search, setSearch] = useSearchParams();
  const showing = search.get("preview") === directory.name;
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
      setSearch({}, { replace: true });
      return client.invalidateQueries();
    },
  });
  return (
    <section className="sheet" style={{ padding: "14px 18px" }} aria-label={`Directory ${directory.name}`}>
      <Group justify="space-between" align="flex-start" wrap="nowrap">
        <div>
          <Text fw={650}>{directory.name}</Text>
          <Text fz="sm" className="mono quiet">
            {String(directory.options.address)}
          </Text>
          <Text fz="sm">
            {directory.accounts} accounts, {directory.groups} groups, {directory.units} units
            <span className="quiet">
              {" "}
              ·{" "}
              {directory.options.address === "scim:"
                ? directory.options.shown_first
                  ? "sent by SCIM, waits for a sync"
                  : "sent by SCIM, counts at once"
                : directory.options.interval
                  ? `every ${directory.options.interval} s`
                  : "on demand"}{" "}
              · at most {String(directory.options.most_leavers)} % may leave
            </span>
          </Text>
        </div>
        <Group gap={8} wrap="nowrap">
          <DirectoryButton directory={directory} />
          <Button
            size="xs"
            variant="default"
            onClick={() => setSearch(showing ? {} : { preview: directory.name }, { replace: true })}
          >
            {showing ? "Hide" : "What would a sync do?"}
          </Button>
          <Button size="xs" loading={sync.isPending} onClick={() => sync.mutate()}>
            Sync now
          </Button>
        </Group>
      </Group>
      {sync.error && <Failed error={sync.error} />}
      {directory.last && !showing && <Report report={directory.last} />}
      {!directory.last && !showing && (
        <Text fz="sm" className="quiet" mt={8}>
          It was never synced here.
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
            · {new Date(report.at).toLocaleString("sv")}, {report.who}
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
