import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { answer, GET, type PromiseLine } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { Code, Note } from "../parts/Line";
import { AccountLink } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";

const COLUMNS: Column<PromiseLine>[] = [
  {
    head: "promise",
    track: "minmax(160px, 1fr)",
    by: (p) => p.name,
    show: (p) => (
      <div style={{ whiteSpace: "normal" }}>
        <b>{p.name}</b>
        <div>
          <Note note={p.note} />
        </div>
      </div>
    ),
  },
  {
    head: "says",
    track: "minmax(240px, 1.8fr)",
    by: (p) => p.says,
    show: (p) => (
      <span className="mono" style={{ whiteSpace: "normal" }}>
        {p.says}
      </span>
    ),
  },
  { head: "to be kept", track: "90px", by: (p) => p.kept, show: (p) => <span className="quiet">{p.kept}</span> },
  {
    head: "state",
    track: "minmax(240px, 2fr)",
    by: (p) => (p.broken ? "broken" : "kept"),
    show: (p) => <Kept promise={p} />,
  },
  { head: "", track: "78px", show: (p) => <EditButton kind="promise" name={p.name} /> },
];

function Kept({ promise: p }: { promise: PromiseLine }) {
  if (!p.broken) return <span className="good">● kept</span>;
  return (
    <div style={{ whiteSpace: "normal", fontSize: 13 }}>
      <span className="bad">
        ✕ broken by {p.accounts} {p.accounts === 1 ? "account" : "accounts"}
      </span>
      {p.breaches.map((b) => (
        <div key={b.account}>
          <AccountLink name={b.account} /> <span className="quiet">at</span> <span className="mono">{b.where}</span>{" "}
          <span className="quiet">
            <Code text={b.line} />
          </span>
        </div>
      ))}
      {p.accounts > p.breaches.length && <div className="quiet">and {p.accounts - p.breaches.length} more</div>}
    </div>
  );
}

export function PromisesPage() {
  const [matching, filter] = useFilter("Filter promises", "Part of a name, of what it says");
  const query = useQuery({ queryKey: ["promises"], queryFn: () => answer(GET("/api/v1/promises")) });
  return (
    <Page
      title="Promises"
      beside={
        <Group gap={10}>
          <AddButton kind="promise" />
          {filter}
        </Group>
      }
    >
      <Text fz="sm" className="quiet">
        Sentences about everybody. What would break one that is always to be kept is refused; one that is watched, and
        broken, is a finding.
      </Text>
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Promises"
            rows={data.promises}
            columns={COLUMNS}
            keyOf={(p) => p.name}
            matching={matching}
            tall
            one="promise"
            none="There are no promises yet. One could be: nobody in anonymous may upload at survey:/ tree."
          />
        )}
      </Loaded>
    </Page>
  );
}
