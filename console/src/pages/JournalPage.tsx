import { useQuery } from "@tanstack/react-query";
import { get, type Journal } from "../api";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

const COLUMNS = "80px 170px 160px 100px 1fr";

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
          <span>how many, before and after</span>
        </div>
        <Loaded query={query}>
          {(journal) =>
            journal.lines.length === 0 ? (
              <Empty>Nothing has been changed yet.</Empty>
            ) : (
              journal.lines.map((line) => {
                const names = [...new Set([...Object.keys(line.before), ...Object.keys(line.after)])];
                const changes = names.filter((n) => line.before[n] !== line.after[n]);
                return (
                  <div
                    key={line.revision}
                    className="row"
                    style={{ gridTemplateColumns: COLUMNS, padding: "7px 14px", cursor: "default" }}
                  >
                    <span className="mono">{line.revision}</span>
                    <span>{new Date(line.at).toLocaleString("sv")}</span>
                    <span>{line.who}</span>
                    <span>{line.what}</span>
                    <span className="quiet" style={{ whiteSpace: "normal", fontSize: 12.5 }}>
                      {changes
                        .map((n) => `${n.replace("_", " ")} ${line.before[n] ?? 0} → ${line.after[n] ?? 0}`)
                        .join(", ") || "the same numbers of everything"}
                    </span>
                  </div>
                );
              })
            )
          }
        </Loaded>
      </div>
    </Page>
  );
}
