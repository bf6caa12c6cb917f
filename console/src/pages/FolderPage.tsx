import { Anchor, Breadcrumbs, Group, Stack, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { answer, type Folder, GET, type Store } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { LineText, Note } from "../parts/Line";
import { AccountLink, ReportButton } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, PartTable, Table } from "../parts/Table";
import { size } from "../parts/values";
import { FolderInside } from "./FolderInside";
import { StoreDisk } from "./StoreDisk";

const to = (place: string) => `/stores?place=${encodeURIComponent(place)}`;

export function FolderPage() {
  const [search] = useSearchParams();
  const place = search.get("place");
  return (
    <Page title="Stores and folders" beside={place ? <ReportButton about={place} /> : <AddButton kind="store" />}>
      {place ? <OneFolder place={place} /> : <Stores />}
    </Page>
  );
}

const STORES: Column<Store>[] = [
  { head: "store", track: "1fr", by: (s) => s.name, show: (s) => s.name },
  { head: "baseline", track: "100px", by: (s) => s.baseline, show: (s) => s.baseline },
  {
    head: "capacity",
    track: "110px",
    by: (s) => s.capacity,
    show: (s) => (s.capacity === null ? "" : size(s.capacity)),
  },
  { head: "folders", track: "110px", by: (s) => s.folders, show: (s) => s.folders.toLocaleString("en") },
  { head: "entries", track: "110px", by: (s) => s.entries, show: (s) => s.entries.toLocaleString("en") },
  {
    head: "root",
    track: "1.6fr",
    by: (s) => s.root,
    show: (s) => <span className="mono quiet">{s.root ?? "only planned"}</span>,
  },
];

function Stores() {
  const query = useQuery({ queryKey: ["stores"], queryFn: () => answer(GET("/api/v1/stores")) });
  return (
    <Loaded query={query}>
      {(data) => (
        <Table
          label="Stores"
          rows={data.stores}
          columns={STORES}
          keyOf={(s) => s.name}
          to={(s) => to(`${s.name}:/`)}
          one="store"
          none="There are no stores yet: add one, for the place where files are."
        />
      )}
    </Loaded>
  );
}

function OneFolder({ place }: { place: string }) {
  const query = useQuery({
    queryKey: ["folder", place],
    queryFn: () => answer(GET("/api/v1/folders", { params: { query: { place: place ?? "" } } })),
  });
  const [store = "", path = "/"] = [place.slice(0, place.indexOf(":")), place.slice(place.indexOf(":") + 1)];
  const steps = path === "/" ? [] : path.slice(1).split("/");
  return (
    <Stack gap={14}>
      <Breadcrumbs fz="sm">
        <Anchor component={Link} to="/stores">
          stores
        </Anchor>
        <Anchor component={Link} to={to(`${store}:/`)}>
          {store}
        </Anchor>
        {steps.map((step, i) => (
          <Anchor component={Link} key={i} to={to(`${store}:/${steps.slice(0, i + 1).join("/")}`)}>
            {step}
          </Anchor>
        ))}
      </Breadcrumbs>
      <Loaded query={query}>
        {(folder) => (
          <>
            <FolderDetail folder={folder} />
            <FolderInside place={folder.place} />
          </>
        )}
      </Loaded>
      {path === "/" && <StoreDisk store={store} />}
    </Stack>
  );
}

/** What is recorded of a folder, in a few words. */
const recorded = (f: Folder["folders"][number]) =>
  [
    f.sealed && "▣ sealed",
    f.owner && `owner ${f.owner}`,
    f.entries && `${f.entries} ${f.entries === 1 ? "entry" : "entries"}`,
  ]
    .filter(Boolean)
    .join(" · ");
const INSIDE: Column<Folder["folders"][number]>[] = [
  {
    head: "in it",
    track: "minmax(120px, 1fr)",
    by: (f) => f.name,
    show: (f) => <span className="mono">{f.name}</span>,
  },
  { head: "what it says", track: "200px", by: recorded, show: (f) => <span className="quiet">{recorded(f)}</span> },
];

function FolderDetail({ folder }: { folder: Folder }) {
  let sealed = folder.sealed;
  return (
    <div
      style={{
        display: "grid",
        gridTemplateColumns: "minmax(0, 1.25fr) minmax(0, 1fr)",
        gap: 18,
        alignItems: "start",
      }}
    >
      <Stack gap={14}>
        <section className="sheet" style={{ padding: "12px 16px" }} aria-label="Entries">
          <Group gap={14} mb={6}>
            <Text fw={650} className="mono">
              {folder.place}
            </Text>
            {folder.owner && (
              <Text fz="sm" className="quiet">
                owner <AccountLink name={folder.owner} />
              </Text>
            )}
            {folder.sealed && (
              <Text fz="sm" className="state-own">
                ▣ sealed: nothing comes down into it
              </Text>
            )}
            {!folder.recorded && (
              <Text fz="sm" className="quiet">
                not recorded
              </Text>
            )}
            <span style={{ flex: 1 }} />
            <EditButton kind="folder" name={folder.place} recorded={folder.recorded} />
          </Group>
          {folder.entries.length === 0 && (
            <Text fz="sm" className="quiet">
              No entries of its own.
            </Text>
          )}
          {folder.entries.map((e) => (
            <LineText key={e.line} line={e} />
          ))}
          {folder.above
            .filter((level) => level.entries.length || level.sealed)
            .map((level) => {
              const behind = sealed;
              sealed = sealed || level.sealed;
              return (
                <div key={level.place} style={{ marginTop: 10 }}>
                  <Text fz="xs" className="quiet">
                    {behind ? "kept out by the seal, on " : "from "}
                    <Link className="plain mono" to={to(level.place)}>
                      {level.place}
                    </Link>
                  </Text>
                  {level.entries.map((e) => (
                    <div
                      key={e.entry}
                      className={`mono ${e.fate || (behind && !e.entry.startsWith("forbid")) ? "quiet" : ""}`}
                    >
                      {e.entry}
                      {e.fate && <span className="state-own"> {e.fate}</span>}
                      <Note note={e.note} />
                    </div>
                  ))}
                </div>
              );
            })}
        </section>
        {folder.locations.length > 0 && (
          <Text fz="sm">
            <span className="quiet">Virtual paths that can lead here: </span>
            {folder.locations.map((path) => (
              <Link
                key={path}
                className="plain mono"
                style={{ marginRight: 10 }}
                to={`/virtual-paths?path=${encodeURIComponent(path)}`}
              >
                {path}
              </Link>
            ))}
          </Text>
        )}
      </Stack>
      <PartTable
        label="Folders in it"
        search="Part of a name, of an owner"
        rows={folder.folders}
        columns={INSIDE}
        keyOf={(f) => f.name}
        to={(f) => to(f.place)}
        one="folder"
        none="No folder in it is recorded."
      />
    </div>
  );
}
