import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { answer, type DriftLine, GET } from "../api";
import { Code } from "../parts/Line";
import { AccountLink } from "../parts/marks";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { moment } from "../parts/time";
import { useReadsEverything } from "../parts/who";

const COLUMNS: Column<DriftLine>[] = [
  {
    head: "account",
    track: "150px",
    by: (x) => x.account,
    show: (x) => (
      <div>
        <AccountLink name={x.account} />
        <div className="quiet" style={{ fontSize: 12.5 }}>
          as {x.acts_as}
        </div>
      </div>
    ),
  },
  {
    head: "where",
    track: "minmax(180px, 0.8fr)",
    by: (x) => x.location,
    show: (x) => (
      <div style={{ whiteSpace: "normal" }}>
        <span className="mono">{x.location}</span>
        {x.below > 0 && (
          <div className="quiet" style={{ fontSize: 12.5 }}>
            and {x.below} {x.below === 1 ? "folder" : "folders"} below
          </div>
        )}
      </div>
    ),
  },
  {
    head: "what is not the same",
    track: "minmax(320px, 2fr)",
    by: (x) => [...x.refused, ...x.wider, x.reason].join(" "),
    show: (x) => (
      <div style={{ whiteSpace: "normal", fontSize: 13 }}>
        {x.refused.length > 0 && (
          <div>
            <span className="bad">✕ the disk refuses</span> {x.refused.join(", ")}
            <div className="quiet">
              <Code text={x.reason ?? ""} />
            </div>
          </div>
        )}
        {(x.partly ?? []).map((part) => (
          <div key={part.right}>
            <span className="state-own">◐ the disk refuses</span> {part.right} on {part.refused} of {part.files} files
          </div>
        ))}
        {x.wider.length > 0 && (
          <div>
            <span className="state-own">! the disk also allows</span> {x.wider.join(", ")}
            <div className="quiet">
              <Code text={x.server ?? ""} />
            </div>
          </div>
        )}
      </div>
    ),
  },
];

/** What was read of a store's disk, and where that says something else than the server. */
export function StoreDisk({ store }: { store: string }) {
  const [matching, filter] = useFilter("Filter the disk", "An account, a place, a right");
  const readsEverything = useReadsEverything();
  const disks = useQuery({
    queryKey: ["disks"],
    queryFn: () => answer(GET("/api/v1/disks")),
    enabled: readsEverything,
  });
  const disk = disks.data?.disks.find((d) => d.store === store);
  const drift = useQuery({
    queryKey: ["drift", store],
    queryFn: () => answer(GET("/api/v1/disks/{store}/drift", { params: { path: { store } } })),
    enabled: disk !== undefined,
  });
  if (!disks.data) return null;
  if (!disk) {
    return (
      <Text fz="sm" className="quiet">
        The disk of {store} was not read; <span className="mono">drawknife disk read {store}</span> reads it, where it
        is.
      </Text>
    );
  }
  return (
    <section aria-label="The disk">
      <Group justify="space-between" mb={8}>
        <Text fw={650}>The disk</Text>
        {filter}
      </Group>
      <Text fz="sm" className="quiet" mb={8}>
        {disk.taken ? `Read ${moment(disk.taken)}` : "Read"}: {disk.folders} folders listed,{" "}
        {disk.windows ? `${disk.users} names, a Windows tree.` : `${disk.files.toLocaleString("en")} files.`}
        {disk.notes.map((note) => ` Not judged: ${note}.`)}
      </Text>
      <Loaded query={drift}>
        {(found) => (
          <>
            <Table
              label="Where the server and the disk do not say the same"
              rows={found.rows}
              columns={COLUMNS}
              keyOf={(x) => `${x.account} ${x.location}`}
              matching={matching}
              tall
              one="place"
              none={`The server and the disk say the same, in ${found.folders} folders of ${found.accounts} accounts.`}
            />
            {[...found.owners.map((said) => `Nobody's: ${said}`), ...found.left_out].map((said) => (
              <Text key={said} fz="sm" className="quiet" mt={6}>
                {said}
              </Text>
            ))}
            {found.total > 0 && (
              <Text fz="sm" className="quiet" mt={6}>
                <span className="mono">
                  drawknife disk {disk.windows ? "descriptors" : "plan"} {store}
                </span>{" "}
                makes the disk say what the model says; <span className="mono">drawknife disk adopt {store}</span> the
                other way round.
              </Text>
            )}
          </>
        )}
      </Loaded>
    </section>
  );
}
