import { Button, Group, Select, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, GET, RIGHTS, type Who } from "../api";
import { AccountLink, Chain, Legend, Mark, PlaceLink } from "../parts/marks";
import { WherePicker } from "../parts/pickers";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";
import { type Column, Table } from "../parts/Table";

const GATES = ["endpoint", "virtual path", "folder", "disk"];

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
          <WherePicker
            label="At"
            placeholder="/soundings or survey:/soundings"
            value={at}
            onChange={setAt}
            w={320}
            autoFocus={!asked.at}
            openOnFocus={false}
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

type Holder = Who["holders"][number];

const HOLDERS: Column<Holder>[] = [
  { head: "account", track: "minmax(120px, 1fr)", by: (h) => h.account, show: (h) => <Holding holder={h} /> },
  {
    head: "location",
    track: "minmax(140px, 1.2fr)",
    by: (h) => h.location,
    show: (h) => <span className="mono">{h.location}</span>,
  },
  {
    head: "by the entry",
    track: "minmax(240px, 2fr)",
    by: (h) => `${h.decided_by ?? ""} ${h.decided_at ?? ""}`,
    show: (h) => (
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
    ),
  },
  {
    head: "through",
    track: "minmax(180px, 1.6fr)",
    by: (h) => h.chain.slice(1).join(" "),
    show: (h) => <Chain chain={h.chain} />,
  },
];

function Holding({ holder }: { holder: Holder }) {
  return (
    <>
      <Mark state={holder.state} />{" "}
      <b>
        <AccountLink name={holder.account} />
      </b>
    </>
  );
}

function Holders({ who }: { who: Who }) {
  return (
    <>
      <Table
        label="Who"
        rows={who.holders}
        columns={HOLDERS}
        keyOf={(h) => h.account + h.location}
        tall
        one="account"
        none={`Nobody has ${who.right} at ${who.at}.`}
      />
      {who.total > who.holders.length && (
        <Text fz="xs" className="quiet">
          The first {who.holders.length} of {who.total}.
        </Text>
      )}
      {who.total > 0 && <Legend />}
    </>
  );
}

const NEARLY: Column<Who["almost"][number]>[] = [
  { head: "account", track: "180px", by: (a) => a.account, show: (a) => <AccountLink name={a.account} /> },
  {
    head: "location",
    track: "180px",
    by: (a) => a.location,
    show: (a) => <span className="mono quiet">{a.location}</span>,
  },
  {
    head: "what refuses",
    track: "1fr",
    by: (a) => a.obstacles[0]?.text,
    show: (a) => <span style={{ whiteSpace: "normal" }}>{a.obstacles[0]?.text}</span>,
  },
];

function Nearly({ who }: { who: Who }) {
  return (
    <Table
      label="Who nearly"
      rows={who.almost}
      columns={NEARLY}
      keyOf={(a) => a.account + a.location}
      tall
      one="account"
      none={`Nobody lacks ${who.right} at ${who.at} only by the ${who.but_for} gate.`}
    />
  );
}
