import { Group, Tabs, TextInput } from "@mantine/core";
import { IconSearch } from "@tabler/icons-react";
import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useDeferredValue, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { answer, GET, type GroupLine } from "../api";
import { AddButton } from "../parts/Editor";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";

export const subjectPath = (subject: string) => `/subjects/${encodeURIComponent(subject)}`;

export function GroupsPage() {
  const [search, setSearch] = useSearchParams();
  const show = search.get("show") ?? "groups";
  const [matching, setMatching] = useState("");
  return (
    <Page
      title="Groups and units"
      beside={
        <Group gap={10}>
          <AddButton kind="group" />
          <AddButton kind="unit" />
          <TextInput
            aria-label="Filter"
            placeholder="Part of a name"
            w={260}
            leftSection={<IconSearch size={15} />}
            value={matching}
            onChange={(e) => setMatching(e.currentTarget.value)}
          />
        </Group>
      }
    >
      <Tabs
        value={show}
        onChange={(value) => setSearch({ show: value ?? "groups" }, { replace: true })}
        keepMounted={false}
      >
        <Tabs.List mb={12}>
          <Tabs.Tab value="groups">Groups</Tabs.Tab>
          <Tabs.Tab value="units">Units</Tabs.Tab>
        </Tabs.List>
        <Tabs.Panel value="groups">
          <Groups matching={matching} />
        </Tabs.Panel>
        <Tabs.Panel value="units">
          <Units matching={matching} />
        </Tabs.Panel>
      </Tabs>
    </Page>
  );
}

const COLUMNS = "minmax(150px, 1fr) 80px minmax(260px, 2.2fr) minmax(140px, 1fr) 90px";
const UNIT_COLUMNS = "minmax(220px, 1.6fr) 90px 130px minmax(160px, 1fr) 110px";

function Groups({ matching }: { matching: string }) {
  const query = useQuery({
    queryKey: ["groups"],
    queryFn: () => answer(GET("/api/v1/groups", { params: { query: { limit: 200_000 } } })),
  });
  return (
    <Loaded query={query}>
      {(data) =>
        data.groups.length ? (
          <GroupRows groups={data.groups} matching={matching} />
        ) : (
          <Empty>There are no groups yet.</Empty>
        )
      }
    </Loaded>
  );
}

function GroupRows({ groups, matching }: { groups: GroupLine[]; matching: string }) {
  const wanted = useDeferredValue(matching.trim().toLowerCase());
  const shown = useMemo(() => groups.filter((g) => g.name.toLowerCase().includes(wanted)), [groups, wanted]);
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => 34,
    overscan: 12,
  });
  return (
    <div className="sheet">
      <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
        <span>group</span>
        <span>accounts</span>
        <span>holds</span>
        <span>held by</span>
        <span>from</span>
      </div>
      <div ref={box} className="rows" style={{ maxHeight: "calc(100vh - 220px)" }}>
        <div style={{ height: rows.getTotalSize(), position: "relative" }}>
          {rows.getVirtualItems().map((item) => {
            const g = shown[item.index];
            if (!g) return null;
            const few = g.members.slice(0, 6).join(", ");
            return (
              <Link
                key={g.name}
                to={subjectPath(`group:${g.name}`)}
                className="row"
                style={{
                  gridTemplateColumns: COLUMNS,
                  height: 34,
                  position: "absolute",
                  width: "100%",
                  boxSizing: "border-box",
                  transform: `translateY(${item.start}px)`,
                  color: "inherit",
                  textDecoration: "none",
                }}
              >
                <b>{g.name}</b>
                <span>{g.accounts}</span>
                <span className="mono">
                  {few}
                  {g.members.length > 6 && ` and ${g.members.length - 6} more`}
                </span>
                <span className="quiet">{g.held_by.join(", ")}</span>
                <span className="quiet">{g.source}</span>
              </Link>
            );
          })}
        </div>
      </div>
      {shown.length === 0 && <Empty>No group matches “{matching}”.</Empty>}
    </div>
  );
}

function Units({ matching }: { matching: string }) {
  const query = useQuery({ queryKey: ["units"], queryFn: () => answer(GET("/api/v1/units")) });
  const wanted = matching.trim().toLowerCase();
  return (
    <div className="sheet">
      <div className="row head" style={{ gridTemplateColumns: UNIT_COLUMNS, height: 32 }}>
        <span>unit</span>
        <span>accounts</span>
        <span>with those below</span>
        <span>member of</span>
        <span>from</span>
      </div>
      <Loaded query={query}>
        {(data) => (
          <>
            {data.units.length === 0 && <Empty>There are no units yet.</Empty>}
            {data.units
              .filter((u) => u.path.toLowerCase().includes(wanted))
              .map((u) => (
                <Link
                  key={u.path}
                  to={subjectPath(`unit:${u.path}`)}
                  className="row"
                  style={{ gridTemplateColumns: UNIT_COLUMNS, height: 32, color: "inherit", textDecoration: "none" }}
                >
                  <span style={{ paddingLeft: (u.path.split("/").length - 1) * 20 }}>
                    <b>{u.path.split("/").at(-1)}</b>
                  </span>
                  <span>{u.accounts || ""}</span>
                  <span>{u.all_accounts || ""}</span>
                  <span className="quiet">{u.held_by.join(", ")}</span>
                  <span className="quiet">{u.source}</span>
                </Link>
              ))}
          </>
        )}
      </Loaded>
    </div>
  );
}
