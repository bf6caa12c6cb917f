import { Group } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { useSearchParams } from "react-router";
import { type Account, answer, GET, named } from "../api";
import { AddButton } from "../parts/Editor";
import { Note } from "../parts/Line";
import { AccountState } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";

const COLUMNS: Column<Account>[] = [
  { head: "account", track: "minmax(150px, 1.2fr)", by: (a) => a.name, show: (a) => a.name },
  {
    head: "name",
    track: "minmax(160px, 1.6fr)",
    by: (a) => [a.display, a.mail, a.note].filter(Boolean).join(" "),
    show: (a) => (
      <span title={a.mail ?? ""}>
        {a.display}
        <Note note={a.note} />
      </span>
    ),
  },
  { head: "kind", track: "90px", by: (a) => a.kind, show: (a) => <span className="quiet">{a.kind}</span> },
  { head: "unit", track: "minmax(120px, 1fr)", by: (a) => a.unit, show: (a) => a.unit },
  { head: "state", track: "160px", by: stateOf, show: (a) => <AccountState account={a} /> },
  { head: "from", track: "80px", by: (a) => a.source, show: (a) => <span className="quiet">{a.source}</span> },
];

function stateOf(a: Account): string {
  return !a.enabled ? "switched off" : a.expired ? "expired" : a.locked ? "locked" : (a.expires ?? "");
}

export function AccountsPage() {
  const [search, setSearch] = useSearchParams();
  const [matching, filter] = useFilter("Filter accounts", "Part of a name, unit, …", search.get("matching") ?? "");
  // What is typed stands there at once; the address follows when the typing pauses.
  const [settled] = useDebouncedValue(matching, 200);
  useEffect(() => {
    setSearch(settled ? { matching: settled } : {}, { replace: true });
  }, [settled, setSearch]);
  const query = useQuery({
    queryKey: ["accounts"],
    queryFn: () => answer(GET("/api/v1/accounts", { params: { query: { limit: 200_000 } } })),
  });
  return (
    <Page
      title="Accounts"
      beside={
        <Group gap={10}>
          <AddButton kind="account" />
          {filter}
        </Group>
      }
    >
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Accounts"
            rows={data.accounts}
            columns={COLUMNS}
            keyOf={(a) => a.name}
            to={(a) => `/accounts/${named(a.name)}`}
            matching={matching}
            one="account"
            none="There are no accounts yet: add one, or load a model with `drawknife load FILE`."
          />
        )}
      </Loaded>
    </Page>
  );
}
