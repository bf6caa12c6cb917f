import { useQuery } from "@tanstack/react-query";
import { get, type ItemChange, type Journal } from "../api";
import { ItemDifference } from "../parts/Consequences";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

const COLUMNS = "70px 160px 130px minmax(150px, 0.7fr) 1.4fr";

export function JournalPage() {
  const query = useQuery({ queryKey: ["journal"], queryFn: () => get<Journal>("/journal", { limit: 500 }) });
  return (
    <Page title="Journal">
      <div className="sheet">
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span>revision</span>
          <span>when</span>
          <span>who</span>
          <span>what</span>
          <span>what is different</span>
        </div>
        <Loaded query={query}>
          {(journal) =>
            journal.lines.length === 0 ? (
              <Empty>Nothing has been changed yet.</Empty>
            ) : (
              journal.lines.map((line) => (
                <div
                  key={line.revision}
                  className="row"
                  style={{ gridTemplateColumns: COLUMNS, padding: "7px 14px", cursor: "default", alignItems: "start" }}
                >
                  <span className="mono">{line.revision}</span>
                  <span>{new Date(line.at).toLocaleString("sv")}</span>
                  <span>{line.who}</span>
                  <span style={{ whiteSpace: "normal" }}>{line.what}</span>
                  <span style={{ whiteSpace: "normal", fontSize: 12.5 }}>
                    <Sides before={line.before} after={line.after} />
                  </span>
                </div>
              ))
            )
          }
        </Loaded>
      </div>
    </Page>
  );
}

type Side = Journal["lines"][number]["before"];

/** What a line tells of the model before and after: items, or how many where there were many. */
function Sides({ before, after }: { before: Side; after: Side }) {
  const sections = [...new Set([...Object.keys(before), ...Object.keys(after)])];
  const counts: string[] = [];
  const items: ItemChange[] = [];
  for (const section of sections) {
    const [a, b] = [before[section] ?? {}, after[section] ?? {}];
    if (typeof a === "number" || typeof b === "number") {
      const [was, is] = [typeof a === "number" ? a : 0, typeof b === "number" ? b : 0];
      if (was !== is) counts.push(`${section.replace("_", " ")} ${was} → ${is}`);
    } else {
      for (const name of new Set([...Object.keys(a), ...Object.keys(b)])) {
        items.push({ section, name, before: a[name] ?? null, after: b[name] ?? null });
      }
    }
  }
  return (
    <>
      <span className="quiet">{counts.join(", ")}</span>
      {items.map((item) => (
        <ItemDifference key={item.section + item.name} item={item} />
      ))}
    </>
  );
}
