import { useQuery } from "@tanstack/react-query";
import { answer, GET } from "../api";
import { ItemDifference } from "../parts/Consequences";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

/** Of a change of many items so many are told. */
const SHOWN = 10;
const COLUMNS = "70px 160px 130px minmax(150px, 0.7fr) 1.4fr";

export function JournalPage() {
  const query = useQuery({
    queryKey: ["journal"],
    queryFn: () => answer(GET("/api/v1/journal", { params: { query: { limit: 500 } } })),
  });
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
                  key={line.id}
                  className="row"
                  style={{ gridTemplateColumns: COLUMNS, padding: "7px 14px", cursor: "default", alignItems: "start" }}
                >
                  <span className="mono">{line.revision}</span>
                  <span>{new Date(line.at).toLocaleString("sv")}</span>
                  <span>{line.who}</span>
                  <span style={{ whiteSpace: "normal" }}>{line.what}</span>
                  <span style={{ whiteSpace: "normal", fontSize: 12.5 }}>
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
