import { useQuery } from "@tanstack/react-query";
import { answer, GET, type Journal } from "../api";
import { ItemDifference } from "../parts/Consequences";
import { ShowRevision } from "../parts/Past";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { TakeBack } from "../parts/TakeBack";

/** Of a change of many items so many are told. */
const SHOWN = 10;
type Line = Journal["lines"][number];

const COLUMNS: Column<Line>[] = [
  { head: "revision", track: "70px", by: (x) => x.revision, show: (x) => <span className="mono">{x.revision}</span> },
  { head: "when", track: "150px", by: (x) => x.at, show: (x) => new Date(x.at).toLocaleString("sv") },
  { head: "who", track: "130px", by: (x) => x.who, show: (x) => x.who },
  {
    head: "what",
    track: "minmax(150px, 0.7fr)",
    by: (x) => x.what,
    show: (x) => <span style={{ whiteSpace: "normal" }}>{x.what}</span>,
  },
  {
    head: "what is different",
    track: "1.4fr",
    by: (x) => [...x.items.map((item) => item.name), ...(x.followed ?? [])].join(" "),
    show: (x) => <Different line={x} />,
  },
  { head: "", track: "150px", show: (x) => x.revision !== null && <Revision line={x} revision={x.revision} /> },
];

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

export function JournalPage() {
  const [matching, filter] = useFilter("Filter the journal", "Who, what, a name");
  const query = useQuery({
    queryKey: ["journal"],
    queryFn: () => answer(GET("/api/v1/journal", { params: { query: { limit: 500 } } })),
  });
  return (
    <Page title="Journal" beside={filter}>
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
            none="Nothing has been changed yet."
          />
        )}
      </Loaded>
    </Page>
  );
}
