import { Group, Tabs } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, GET, type GroupLine, type UnitLine } from "../api";
import { AddButton } from "../parts/Editor";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";

export const subjectPath = (subject: string) => `/subjects/${encodeURIComponent(subject)}`;

export function GroupsPage() {
  const [search, setSearch] = useSearchParams();
  const show = search.get("show") ?? "groups";
  const [matching, filter] = useFilter("Filter", "Part of a name");
  return (
    <Page
      title="Groups and units"
      beside={
        <Group gap={10}>
          <AddButton kind="group" />
          <AddButton kind="unit" />
          {filter}
        </Group>
      }
    >
      <Tabs
        value={show}
        onChange={(value) => setSearch({ show: value ?? "groups" }, { replace: true })}
        keepMounted={false}
      >
        <Tabs.List>
          <Tabs.Tab value="groups">Groups</Tabs.Tab>
          <Tabs.Tab value="units">Units</Tabs.Tab>
        </Tabs.List>
      </Tabs>
      {show === "units" ? <Units matching={matching} /> : <Groups matching={matching} />}
    </Page>
  );
}

function holds(g: GroupLine): string {
  return g.members.slice(0, 6).join(", ") + (g.members.length > 6 ? ` and ${g.members.length - 6} more` : "");
}

const COLUMNS: Column<GroupLine>[] = [
  { head: "group", track: "minmax(150px, 1fr)", by: (g) => g.name, show: (g) => g.name },
  { head: "accounts", track: "80px", by: (g) => g.accounts, show: (g) => g.accounts },
  { head: "holds", track: "minmax(260px, 2.2fr)", show: (g) => <span className="mono">{holds(g)}</span> },
  { head: "held by", track: "minmax(140px, 1fr)", show: (g) => <span className="quiet">{g.held_by.join(", ")}</span> },
  { head: "from", track: "90px", by: (g) => g.source, show: (g) => <span className="quiet">{g.source}</span> },
];

function Groups({ matching }: { matching: string }) {
  const query = useQuery({
    queryKey: ["groups"],
    queryFn: () => answer(GET("/api/v1/groups", { params: { query: { limit: 200_000 } } })),
  });
  return (
    <Loaded query={query}>
      {(data) => (
        <Table
          label="Groups"
          rows={data.groups}
          columns={COLUMNS}
          keyOf={(g) => g.name}
          to={(g) => subjectPath(`group:${g.name}`)}
          matching={matching}
          one="group"
          none="There are no groups yet: add one, and it can be granted what all of it may do."
        />
      )}
    </Loaded>
  );
}

const UNIT_COLUMNS: Column<UnitLine>[] = [
  {
    head: "unit",
    track: "minmax(220px, 1.6fr)",
    by: (u) => u.path,
    show: (u) => <span style={{ paddingLeft: (u.path.split("/").length - 1) * 20 }}>{u.path.split("/").at(-1)}</span>,
  },
  { head: "accounts", track: "90px", by: (u) => u.accounts, show: (u) => u.accounts || "" },
  { head: "with those below", track: "130px", by: (u) => u.all_accounts, show: (u) => u.all_accounts || "" },
  {
    head: "member of",
    track: "minmax(160px, 1fr)",
    show: (u) => <span className="quiet">{u.held_by.join(", ")}</span>,
  },
  { head: "from", track: "110px", by: (u) => u.source, show: (u) => <span className="quiet">{u.source}</span> },
];

function Units({ matching }: { matching: string }) {
  const query = useQuery({ queryKey: ["units"], queryFn: () => answer(GET("/api/v1/units")) });
  return (
    <Loaded query={query}>
      {(data) => (
        <Table
          label="Units"
          rows={data.units}
          columns={UNIT_COLUMNS}
          keyOf={(u) => u.path}
          to={(u) => subjectPath(`unit:${u.path}`)}
          matching={matching}
          one="unit"
          none="There are no units yet: add one to say where people belong."
        />
      )}
    </Loaded>
  );
}
