import { Group } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, GET, type VirtualPath } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { LineText, Note } from "../parts/Line";
import { PlaceLink } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";

const COLUMNS: Column<VirtualPath>[] = [
  {
    head: "path",
    track: "minmax(140px, 1fr)",
    by: (v) => v.path,
    show: (v) => (
      <>
        <b className="mono">{v.path}</b>
        <Note note={v.note} />
      </>
    ),
  },
  {
    head: "leads to",
    track: "minmax(200px, 1.4fr)",
    by: (v) => v.leads_to,
    show: (v) =>
      v.leads_to.includes("{") ? <span className="mono">{v.leads_to}</span> : <PlaceLink place={v.leads_to} />,
  },
  { head: "listing", track: "100px", by: (v) => v.listing, show: (v) => <span className="quiet">{v.listing}</span> },
  {
    head: "grants: who has it, and the most they can do",
    track: "minmax(220px, 2fr)",
    by: (v) => v.grants.map((g) => g.line).join(" "),
    show: (v) => v.grants.map((g) => <LineText key={g.line} line={g} />),
  },
  { head: "", track: "78px", show: (v) => <EditButton kind="virtual-path" name={`${v.path}>${v.leads_to}`} /> },
];

export function VirtualPathsPage() {
  const [search] = useSearchParams();
  const chosen = search.get("path");
  const [matching, filter] = useFilter("Filter virtual paths", "Part of a path, a folder, a grant");
  const query = useQuery({
    queryKey: ["virtual-paths"],
    queryFn: () => answer(GET("/api/v1/virtual-paths")),
  });
  return (
    <Page
      title="Virtual paths"
      beside={
        <Group gap={10}>
          <AddButton kind="virtual-path" />
          {filter}
        </Group>
      }
    >
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Virtual paths"
            rows={data.virtual_paths}
            columns={COLUMNS}
            keyOf={(v) => v.path + v.leads_to}
            matching={matching}
            chosen={(v) => v.path === chosen}
            tall
            one="virtual path"
            none="There are no virtual paths yet, so nobody sees anything: add one that leads to a folder."
          />
        )}
      </Loaded>
    </Page>
  );
}
