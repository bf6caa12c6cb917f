import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, GET } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { LineText } from "../parts/Line";
import { PlaceLink } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

const COLUMNS = "minmax(140px, 1fr) minmax(200px, 1.4fr) 100px minmax(220px, 2fr) 78px";

export function VirtualPathsPage() {
  const [search] = useSearchParams();
  const chosen = search.get("path");
  const query = useQuery({
    queryKey: ["virtual-paths"],
    queryFn: () => answer(GET("/api/v1/virtual-paths")),
  });
  return (
    <Page title="Virtual paths" beside={<AddButton kind="virtual-path" />}>
      <div className="sheet" style={{ overflow: "auto" }}>
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span>path</span>
          <span>leads to</span>
          <span>listing</span>
          <span>grants: who has it, and the most they can do</span>
          <span />
        </div>
        <Loaded query={query}>
          {(data) =>
            data.virtual_paths.length === 0 ? (
              <Empty>There are no virtual paths yet: nobody sees anything.</Empty>
            ) : (
              data.virtual_paths.map((v) => (
                <div
                  key={v.path + v.leads_to}
                  className="row"
                  data-chosen={v.path === chosen}
                  style={{
                    gridTemplateColumns: COLUMNS,
                    padding: "8px 14px",
                    alignItems: "start",
                    cursor: "default",
                  }}
                >
                  <b className="mono">{v.path}</b>
                  {v.leads_to.includes("{") ? (
                    <span className="mono">{v.leads_to}</span>
                  ) : (
                    <PlaceLink place={v.leads_to} />
                  )}
                  <span className="quiet">{v.listing}</span>
                  <span className="mono">
                    {v.grants.map((g) => (
                      <LineText key={g.line} line={g} />
                    ))}
                  </span>
                  <EditButton kind="virtual-path" name={`${v.path}>${v.leads_to}`} />
                </div>
              ))
            )
          }
        </Loaded>
      </div>
    </Page>
  );
}
