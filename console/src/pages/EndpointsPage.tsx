import { Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, type Endpoint, GET } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { LineText, Note } from "../parts/Line";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { CertificateLine, SignInQuestion } from "./SignInQuestion";
import { WayIn } from "./WayIn";

const COLUMNS: Column<Endpoint>[] = [
  {
    head: "endpoint",
    track: "minmax(120px, 1fr)",
    by: (e) => e.name,
    show: (e) => (
      <>
        <b>{e.name}</b>
        <div style={{ whiteSpace: "normal" }}>
          <Note note={e.note} />
        </div>
      </>
    ),
  },
  {
    head: "listens",
    track: "190px",
    by: (e) => `${e.protocol} ${e.address}:${e.port}`,
    show: (e) => (
      <span className="mono">
        {e.protocol} {e.address}:{e.port}
        <div className="quiet">{e.host_names.join(", ")}</div>
      </span>
    ),
  },
  {
    head: "passive ports",
    track: "120px",
    by: (e) => e.passive_ports,
    show: (e) => (
      <>
        <span className="mono">{e.passive_ports}</span>
        {e.passive_ports && (
          <div className="quiet" style={{ fontSize: 12, whiteSpace: "normal" }}>
            for {e.sessions_allowed ?? "any number of"} sessions
          </div>
        )}
      </>
    ),
  },
  { head: "TLS", track: "90px", by: (e) => e.tls, show: (e) => e.tls ?? "—" },
  {
    head: "state",
    track: "minmax(150px, 1.2fr)",
    by: (e) => (e.starts ? "starts" : e.enabled ? "does not start" : "switched off"),
    show: (e) => <EndpointState endpoint={e} />,
  },
  {
    head: "entries",
    track: "minmax(200px, 1.6fr)",
    by: (e) => e.entries.map((x) => x.line).join(" "),
    show: (e) => (
      <div style={{ whiteSpace: "normal" }}>
        {e.entries.map((x) => (
          <LineText key={x.line} line={x} />
        ))}
        {e.never.length > 0 && <div className="mono bad">✕ never {e.never.join(", ")}</div>}
        {e.only !== null && <div className="mono quiet">only {e.only.join(", ") || "nobody"}</div>}
      </div>
    ),
  },
  { head: "", track: "78px", show: (e) => <EditButton kind="endpoint" name={e.name} /> },
];

function EndpointState({ endpoint: e }: { endpoint: Endpoint }) {
  return (
    <div style={{ whiteSpace: "normal" }}>
      {e.starts ? (
        <span className="good">● starts</span>
      ) : e.enabled ? (
        <span className="bad">✕ does not start</span>
      ) : (
        <span className="quiet">switched off</span>
      )}
      {e.clash && <div style={{ fontSize: 12.5 }}>{e.clash}; give one of them other ports</div>}
      {e.certificate && <CertificateLine endpoint={e.name} />}
    </div>
  );
}

export function EndpointsPage() {
  const [search] = useSearchParams();
  const [matching, filter] = useFilter("Filter endpoints", "Part of a name, an address, an entry");
  const query = useQuery({
    queryKey: ["endpoints"],
    queryFn: () => answer(GET("/api/v1/endpoints")),
  });
  return (
    <Page
      title="Endpoints"
      beside={
        <Group gap={10}>
          <AddButton kind="endpoint" />
          {filter}
        </Group>
      }
    >
      <div style={{ flexShrink: 0 }}>
        <Loaded query={query}>
          {(data) => (
            <Table
              label="Endpoints"
              rows={data.endpoints}
              columns={COLUMNS}
              keyOf={(e) => e.name}
              matching={matching}
              tall
              one="endpoint"
              none="There are no endpoints yet, so nobody can come in: add one."
            />
          )}
        </Loaded>
      </div>
      {query.data && query.data.endpoints.length > 0 && (
        <SignInQuestion endpoints={query.data.endpoints.map((e) => e.name)} chosen={search.get("endpoint")} />
      )}
      <WayIn />
    </Page>
  );
}
