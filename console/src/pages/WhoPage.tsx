import { Button, Group, Select, Text, TextInput } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, GET, RIGHTS, type Who } from "../api";
import { AccountLink, Chain, Legend, Mark, PlaceLink } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

const COLUMNS = "34px minmax(120px, 1fr) minmax(140px, 1.2fr) minmax(240px, 2fr) minmax(180px, 1.6fr)";
const GATES = ["endpoint", "virtual path", "folder"];

/** Everybody who has a right at a place, and through what. */
export function WhoPage() {
  const [search, setSearch] = useSearchParams();
  const [right, setRight] = useState(search.get("right") ?? "download");
  const [at, setAt] = useState(search.get("at") ?? "");
  const [butFor, setButFor] = useState(search.get("but_for"));
  const asked = { right: search.get("right"), at: search.get("at"), but_for: search.get("but_for") };
  const query = useQuery({
    queryKey: ["who", asked],
    queryFn: () =>
      answer(
        GET("/api/v1/who", {
          params: { query: { ...asked, right: asked.right ?? "", at: asked.at ?? "", limit: 1000 } },
        }),
      ),
    enabled: Boolean(asked.right && asked.at),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    setSearch({ right, at, ...(butFor ? { but_for: butFor } : {}) });
  };
  return (
    <Page title="Who can">
      <form onSubmit={submit}>
        <Group align="flex-end">
          <Select
            label="Right"
            data={[...RIGHTS]}
            value={right}
            onChange={(v) => setRight(v ?? "download")}
            w={170}
            allowDeselect={false}
            searchable
          />
          <TextInput
            label="At"
            placeholder="/soundings or survey:/soundings"
            value={at}
            onChange={(e) => setAt(e.currentTarget.value)}
            w={320}
            autoFocus
          />
          <Select
            label="But for the gate"
            placeholder="no: those who have it"
            data={GATES}
            value={butFor}
            onChange={setButFor}
            clearable
            w={200}
          />
          <Button type="submit" disabled={!at}>
            Show
          </Button>
        </Group>
      </form>
      {!asked.at ? (
        <Empty>Choose a right and a place: a location as accounts see it, or a folder of a store.</Empty>
      ) : (
        <Loaded query={query}>{(who) => (who.but_for ? <Nearly who={who} /> : <Holders who={who} />)}</Loaded>
      )}
    </Page>
  );
}

function Holders({ who }: { who: Who }) {
  if (!who.total)
    return (
      <Empty>
        Nobody has {who.right} at {who.at}.
      </Empty>
    );
  return (
    <>
      <div className="sheet" style={{ overflow: "auto" }}>
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span />
          <span>account</span>
          <span>location</span>
          <span>by the entry</span>
          <span>through</span>
        </div>
        {who.holders.map((h) => (
          <div
            key={h.account + h.location}
            className="row"
            style={{ gridTemplateColumns: COLUMNS, minHeight: 34, cursor: "default" }}
          >
            <Mark state={h.state} />
            <b>
              <AccountLink name={h.account} />
            </b>
            <span className="mono">{h.location}</span>
            <span style={{ whiteSpace: "normal" }}>
              {h.decided_by && h.decided_at ? (
                <>
                  <span className="mono">{h.decided_by}</span> <span className="quiet">on</span>{" "}
                  <PlaceLink place={h.decided_at} />
                </>
              ) : (
                <span className="quiet">{h.place ? "the store is open" : "leads to virtual paths"}</span>
              )}
            </span>
            <Chain chain={h.chain} />
          </div>
        ))}
      </div>
      {who.total > who.holders.length && (
        <Text fz="xs" className="quiet">
          The first {who.holders.length} of {who.total}.
        </Text>
      )}
      <Legend />
    </>
  );
}

function Nearly({ who }: { who: Who }) {
  if (!who.total)
    return (
      <Empty>
        Nobody lacks {who.right} at {who.at} only by the {who.but_for} gate.
      </Empty>
    );
  return (
    <div className="sheet">
      {who.almost.map((a) => (
        <div
          key={a.account}
          className="row"
          style={{ gridTemplateColumns: "180px 180px 1fr", padding: "8px 14px", cursor: "default" }}
        >
          <b>
            <AccountLink name={a.account} />
          </b>
          <span className="mono quiet">{a.location}</span>
          <span style={{ whiteSpace: "normal" }}>{a.obstacles[0]?.text}</span>
        </div>
      ))}
    </div>
  );
}
