import { Group, Select, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { answer, GET, type Journal } from "../api";
import { useChosen } from "../parts/address";
import { ItemDifference } from "../parts/Consequences";
import { ShowRevision } from "../parts/Past";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { TakeBack } from "../parts/TakeBack";
import { moment } from "../parts/time";

/** Of a change of many items so many are told. */
const SHOWN = 10;
type Line = Journal["lines"][number];

const COLUMNS: Column<Line>[] = [
  { head: "revision", track: "70px", by: (x) => x.revision, show: (x) => <span className="mono">{x.revision}</span> },
  { head: "when", track: "175px", by: (x) => x.at, show: (x) => moment(x.at) },
  { head: "who", track: "130px", by: (x) => x.who, show: (x) => x.who },
  {
    head: "what",
    track: "minmax(150px, 1fr)",
    by: (x) => x.what,
    show: (x) => <span style={{ whiteSpace: "normal" }}>{x.what}</span>,
  },
  {
    head: "what is different",
    track: "1.4fr",
    by: (x) => [...x.items.map((item) => item.name), ...(x.followed ?? [])].join(" "),
    show: (x) => (x.kind === "census" ? <Folded line={x} /> : <Different line={x} />),
  },
  { head: "", track: "150px", show: (x) => x.revision !== null && <Revision line={x} revision={x.revision} /> },
];

/** What is different, folded into one line until it is asked for. */
function Folded({ line }: { line: Line }) {
  return (
    <details style={{ whiteSpace: "normal", fontSize: 12.5 }}>
      <summary>
        {line.item_count.toLocaleString("en")} {line.item_count === 1 ? "place differs" : "places differ"}
      </summary>
      <Different line={line} />
    </details>
  );
}

function Revision({ line, revision }: { line: Line; revision: number }) {
  return (
    <>
      <ShowRevision revision={revision} />
      {line.item_count > 0 && <TakeBack revision={revision} />}
    </>
  );
}

function Different({ line }: { line: Line }) {
  return (
    <div style={{ whiteSpace: "normal", fontSize: 12.5 }}>
      {line.items.slice(0, SHOWN).map((item) => (
        <ItemDifference key={item.section + item.name} item={item} />
      ))}
      {line.item_count > SHOWN && (
        <div className="quiet">and {(line.item_count - SHOWN).toLocaleString("en")} more items</div>
      )}
      {line.followed?.map((said) => (
        <div key={said} className="quiet">
          → {said}
        </div>
      ))}
    </div>
  );
}

const KINDS = [
  { value: "done", label: "all that was done" },
  { value: "change", label: "changes of the model" },
  { value: "census", label: "censuses" },
  { value: "other", label: "what else was done" },
  { value: "sign-in", label: "sign-ins to the console" },
] as const;
type Kind = (typeof KINDS)[number]["value"];

/** The moments between which a day of this browser's clock lies. */
function boundsOf(day: string) {
  if (!day) return {};
  return { since: new Date(`${day}T00:00`).toISOString(), until: new Date(`${day}T23:59:59.999`).toISOString() };
}

/** Who changed what, and when; sign-ins stand apart. */
export function JournalPage() {
  const [matching, filter] = useFilter("Filter the journal", "Who, what, a name");
  const [params, put] = useChosen();
  const day = params.get("day") ?? "";
  const kind = KINDS.find((x) => x.value === params.get("kind"))?.value ?? "done";
  const query = useQuery({
    queryKey: ["journal", kind, day],
    queryFn: () => answer(GET("/api/v1/journal", { params: { query: { limit: 500, kind, ...boundsOf(day) } } })),
  });
  const beside = (
    <Group gap="xs">
      <Select
        aria-label="What is shown"
        data={KINDS}
        value={kind}
        allowDeselect={false}
        onChange={(value) => put("kind", value === "done" ? "" : (value as Kind))}
      />
      <TextInput
        type="date"
        aria-label="Only this day"
        value={day}
        onChange={(e) => put("day", e.currentTarget.value)}
      />
      {filter}
    </Group>
  );
  return (
    <Page title="Journal" beside={beside}>
      <Loaded query={query}>
        {(journal) => (
          <Table
            label="Journal"
            rows={journal.lines}
            columns={COLUMNS}
            keyOf={(x) => String(x.id)}
            matching={matching}
            tall
            one="line"
            none={day || kind !== "done" ? "Nothing of this kind was done then." : "Nothing has been changed yet."}
          />
        )}
      </Loaded>
    </Page>
  );
}
