import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, GET } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { LineText } from "../parts/Line";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";
import { CertificateLine, SignInQuestion } from "./SignInQuestion";
import { WayIn } from "./WayIn";

const COLUMNS = "minmax(120px, 1fr) 190px 120px 90px minmax(150px, 1.2fr) minmax(200px, 1.6fr) 78px";

export function EndpointsPage() {
  const [search] = useSearchParams();
  const query = useQuery({
    queryKey: ["endpoints"],
    queryFn: () => answer(GET("/api/v1/endpoints")),
  });
  return (
    <Page title="Endpoints" beside={<AddButton kind="endpoint" />}>
      <div className="sheet" style={{ overflowX: "auto", overflowY: "hidden", flexShrink: 0 }}>
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span>endpoint</span>
          <span>listens</span>
          <span>passive ports</span>
          <span>TLS</span>
          <span>state</span>
          <span>entries</span>
          <span />
        </div>
        <Loaded query={query}>
          {(data) =>
            data.endpoints.length === 0 ? (
              <Empty>There are no endpoints yet: nobody can come in.</Empty>
            ) : (
              data.endpoints.map((e) => (
                <div
                  key={e.name}
                  className="row"
                  style={{
                    gridTemplateColumns: COLUMNS,
                    padding: "9px 14px",
                    alignItems: "start",
                    cursor: "default",
                  }}
                >
                  <b>{e.name}</b>
                  <span className="mono">
                    {e.protocol} {e.address}:{e.port}
                    <div className="quiet">{e.host_names.join(", ")}</div>
                  </span>
                  <span>
                    <span className="mono">{e.passive_ports}</span>
                    {e.passive_ports && (
                      <div className="quiet" style={{ fontSize: 12, whiteSpace: "normal" }}>
                        for {e.sessions_allowed ?? "any number of"} sessions
                      </div>
                    )}
                  </span>
                  <span>{e.tls ?? "—"}</span>
                  <span style={{ whiteSpace: "normal" }}>
                    {e.starts ? (
                      <span className="good">● starts</span>
                    ) : e.enabled ? (
                      <span className="bad">✕ does not start</span>
                    ) : (
                      <span className="quiet">switched off</span>
                    )}
                    {e.clash && <div style={{ fontSize: 12.5 }}>{e.clash}; give one of them other ports</div>}
                    <CertificateLine endpoint={e.name} />
                  </span>
                  <span className="mono" style={{ whiteSpace: "normal" }}>
                    {e.entries.map((x) => (
                      <LineText key={x.line} line={x} />
                    ))}
                    {e.never.length > 0 && <div className="bad">✕ never {e.never.join(", ")}</div>}
                    {e.only !== null && <div className="quiet">only {e.only.join(", ") || "nobody"}</div>}
                  </span>
                  <EditButton kind="endpoint" name={e.name} />
                </div>
              ))
            )
          }
        </Loaded>
      </div>
      {query.data && query.data.endpoints.length > 0 && (
        <SignInQuestion endpoints={query.data.endpoints.map((e) => e.name)} chosen={search.get("endpoint")} />
      )}
      <WayIn />
    </Page>
  );
}
