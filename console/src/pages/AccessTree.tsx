import { Stack, Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useQueries, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef, useState } from "react";
import { useSearchParams } from "react-router";
import { type Access, type AccessRow, answer, GET, RIGHTS, type Right } from "../api";
import { Legend, MARKS, MEANINGS, PlaceLink, Stairs } from "../parts/marks";
import { Empty, Loaded } from "../parts/states";
import { type TreeLabel, tail, treeLabels } from "../parts/tree";
import { Why } from "../parts/Why";

const CELL = 30;
const LABEL = 300;
const HEIGHT = 29;
/** How far a level is moved in, and how wide a letter is; of a name that has no room its end is shown, which tells it from others. */
const LEVEL = 18;
const LETTER = 8;
const COLUMNS = `${LABEL}px ${CELL * RIGHTS.length}px minmax(0, 1fr)`;

/** So many locations that are found are shown. */
const FOUND = 500;

interface Asked {
  endpoint?: string;
  under?: string;
  folded?: boolean;
  matching?: string;
  limit: number;
}

const ask = (account: string, query: Asked) => ({
  queryKey: ["access", account, query],
  queryFn: () => answer(GET("/api/v1/accounts/{name}/access", { params: { path: { name: account }, query } })),
});

/**
 * The namespace of an account as a tree, a column a right; a cell opens why, in place. What is as the folder above is
 * counted there, and opens; a search finds it wherever it is.
 */
export function AccessTree({ account, endpoint }: { account: string; endpoint?: string }) {
  const [opened, setOpened] = useState<string[]>([]);
  const [typed, setTyped] = useState("");
  const [matching] = useDebouncedValue(typed.trim(), 200);
  const folded = useQuery(ask(account, { endpoint, folded: true, limit: 2_000_000 }));
  const found = useQuery({ ...ask(account, { endpoint, matching, limit: FOUND }), enabled: matching !== "" });
  const branches = useQueries({
    queries: opened.map((under) => ask(account, { endpoint, under, limit: 2_000_000 })),
    combine: (queries) => queries.flatMap((query) => (query.data ? [query.data.rows] : [])),
  });
  const toggle = (location: string) =>
    setOpened((now) => (now.includes(location) ? now.filter((x) => x !== location) : [...now, location]));
  return (
    <Stack gap={8} style={{ flex: 1, minHeight: 0 }}>
      <TextInput
        aria-label="Find a location"
        placeholder="Find a location"
        size="xs"
        w={260}
        value={typed}
        onChange={(event) => setTyped(event.currentTarget.value)}
      />
      <Loaded query={matching === "" ? folded : found}>
        {(access) => (
          <Rows
            access={matching === "" ? { ...access, rows: withBranches(access.rows, branches) } : access}
            endpoint={endpoint}
            opened={opened}
            openBranch={toggle}
            searching={matching !== ""}
          />
        )}
      </Loaded>
    </Stack>
  );
}

const isIn = (location: string, top: string) => top === "/" || location === top || location.startsWith(`${top}/`);

/** The rows with branches that are open in the place of what is folded there. */
function withBranches(rows: AccessRow[], branches: AccessRow[][]): AccessRow[] {
  let all = rows;
  for (const branch of branches) {
    const top = branch[0]?.location;
    const at = all.findIndex((row) => row.location === top);
    if (top === undefined || at < 0) continue;
    let end = at;
    while (end < all.length && isIn(all[end]?.location ?? "", top)) end += 1;
    all = [...all.slice(0, at), ...branch, ...all.slice(end)];
  }
  return all;
}

function Rows({
  access,
  endpoint,
  opened,
  openBranch,
  searching,
}: {
  access: Access;
  endpoint?: string;
  opened: string[];
  openBranch: (location: string) => void;
  searching: boolean;
}) {
  const [search, setSearch] = useSearchParams();
  const open = search.get("why"); // RIGHT@LOCATION
  const [openRight, openAt] = open
    ? [open.slice(0, open.indexOf("@")), open.slice(open.indexOf("@") + 1)]
    : [null, null];
  const labels = useMemo(() => treeLabels(access.rows.map((row) => row.location)), [access]);
  const box = useRef<HTMLDivElement>(null);
  const rows = useVirtualizer({
    count: access.rows.length,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
    getItemKey: (i) => access.rows[i]?.location ?? i,
  });
  const openIndex = access.rows.findIndex((row) => row.location === openAt);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only when the page opens with a cell open
  useEffect(() => {
    if (openIndex > 6) rows.scrollToIndex(openIndex - 2, { align: "start" });
  }, []);
  const toggle = (right: Right, location: string) => {
    const next = new URLSearchParams(search);
    const value = `${right}@${location}`;
    open === value ? next.delete("why") : next.set("why", value);
    setSearch(next, { replace: true });
  };
  if (!access.rows.length && searching) return <Empty>No location has that in its name.</Empty>;
  if (!access.rows.length) {
    return (
      <Empty>{access.account} has no virtual path that is served to it, so it sees nothing at all. Grant it one.</Empty>
    );
  }
  return (
    <Stack gap={10} style={{ flex: 1, minHeight: 0 }}>
      <div className="sheet" style={{ flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}>
        <div style={{ padding: "8px 14px 0", borderBottom: "1px solid var(--edge)" }}>
          <Stairs width={CELL} left={LABEL} />
        </div>
        <div ref={box} className="rows" style={{ flex: 1 }} role="grid" aria-label={`What ${access.account} can do`}>
          <div style={{ height: rows.getTotalSize(), position: "relative" }}>
            {rows.getVirtualItems().map((item) => {
              const row = access.rows[item.index];
              const label = labels[item.index];
              if (!row || !label) return null;
              return (
                <div
                  key={item.key}
                  ref={rows.measureElement}
                  data-index={item.index}
                  style={{ position: "absolute", width: "100%", transform: `translateY(${item.start}px)` }}
                >
                  <TreeRow
                    row={row}
                    label={label}
                    open={openAt === row.location ? openRight : null}
                    toggle={toggle}
                    isOpen={opened.includes(row.location)}
                    openBranch={openBranch}
                  />
                  {openAt === row.location && openRight && (
                    <Why
                      account={access.account}
                      right={openRight}
                      location={row.location}
                      endpoint={endpoint}
                      state={row.rights[openRight] ?? "no"}
                      close={() => toggle(openRight, row.location)}
                    />
                  )}
                </div>
              );
            })}
          </div>
        </div>
      </div>
      {access.not_served.map((closed) => (
        <Text key={closed.path} fz="sm">
          <span className="state-own">▲ {closed.path} is not served:</span> {closed.text}
        </Text>
      ))}
      <Legend>
        <span>· click a mark for the reason</span>
      </Legend>
      {searching && access.total > access.rows.length && (
        <Text fz="xs" className="quiet">
          {access.total - access.rows.length} more locations have that in their names.
        </Text>
      )}
      {access.notes.map((note) => (
        <Text key={note} fz="xs" className="quiet">
          {note}
        </Text>
      ))}
    </Stack>
  );
}

function TreeRow({
  row,
  label,
  open,
  toggle,
  isOpen,
  openBranch,
}: {
  row: AccessRow;
  label: TreeLabel;
  open: Right | null;
  toggle: (right: Right, location: string) => void;
  isOpen: boolean;
  openBranch: (location: string) => void;
}) {
  const keys = (event: KeyboardEvent<HTMLButtonElement>) => {
    const step = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: RIGHTS.length, ArrowUp: -RIGHTS.length }[event.key];
    if (!step) return;
    event.preventDefault();
    const cells = [
      ...(event.currentTarget.closest("[role=grid]")?.querySelectorAll<HTMLButtonElement>("button.cell") ?? []),
    ];
    cells[cells.indexOf(event.currentTarget) + step]?.focus();
  };
  return (
    <div
      className="row"
      role="row"
      style={{ gridTemplateColumns: COLUMNS, height: HEIGHT, cursor: "default", columnGap: 0 }}
    >
      <span className="mono" style={{ paddingLeft: label.depth * LEVEL }} title={row.location} role="rowheader">
        {label.depth > 0 && <span className="quiet">└ </span>}
        <span
          className={row.kind === "synthetic" ? "quiet" : undefined}
          style={{ fontWeight: row.kind === "virtual path" ? 650 : 400 }}
        >
          {tail(label.label, Math.floor((LABEL - LEVEL * label.depth) / LETTER) - 2)}
        </span>
      </span>
      <span style={{ display: "flex" }}>
        {RIGHTS.map((right) => [right, row.rights[right] ?? "no"] as const).map(([right, state]) => (
          <span key={right} role="gridcell">
            <button
              type="button"
              className="cell"
              data-open={open === right}
              title={`${right}: ${MEANINGS[state]}`}
              aria-label={`${right} at ${row.location}: ${MEANINGS[state]}`}
              onClick={() => toggle(right, row.location)}
              onKeyDown={keys}
            >
              <span className={`state-${state}`}>{MARKS[state]}</span>
            </button>
          </span>
        ))}
      </span>
      <span className="quiet" style={{ paddingLeft: 14, fontSize: 12.5 }} role="gridcell">
        {row.place && row.kind === "virtual path" ? (
          <PlaceLink place={row.place} />
        ) : row.kind === "synthetic" ? (
          "leads to virtual paths"
        ) : (
          ""
        )}
        {(row.below > 0 || isOpen) && (
          <button
            type="button"
            className="link"
            style={{ marginLeft: row.place && row.kind === "virtual path" ? 10 : 0 }}
            aria-expanded={isOpen}
            aria-label={isOpen ? `Fold ${row.location}` : `Open ${row.location}`}
            onClick={() => openBranch(row.location)}
          >
            {isOpen ? "▾ fold" : `▸ ${row.below.toLocaleString("en")} below, the same`}
          </button>
        )}
      </span>
    </div>
  );
}
