import { Stack, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useEffect, useMemo, useRef } from "react";
import { useSearchParams } from "react-router";
import { type Access, type AccessRow, answer, GET, RIGHTS, type Right } from "../api";
import { Legend, MARKS, MEANINGS, PlaceLink, Stairs } from "../parts/marks";
import { Empty, Loaded } from "../parts/states";
import { type TreeLabel, treeLabels } from "../parts/tree";
import { Why } from "../parts/Why";

const CELL = 30;
const LABEL = 300;
const HEIGHT = 29;
const COLUMNS = `${LABEL}px ${CELL * RIGHTS.length}px minmax(0, 1fr)`;

/** The namespace of an account as a tree, a column a right; a cell opens why, in place. */
export function AccessTree({ account, endpoint }: { account: string; endpoint?: string }) {
  const query = useQuery({
    queryKey: ["access", account, endpoint],
    queryFn: () =>
      answer(
        GET("/api/v1/accounts/{name}/access", {
          params: { path: { name: account }, query: { endpoint, limit: 2_000_000 } },
        }),
      ),
  });
  return <Loaded query={query}>{(access) => <Rows access={access} endpoint={endpoint} />}</Loaded>;
}

function Rows({ access, endpoint }: { access: Access; endpoint?: string }) {
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
                  <TreeRow row={row} label={label} open={openAt === row.location ? openRight : null} toggle={toggle} />
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
}: {
  row: AccessRow;
  label: TreeLabel;
  open: Right | null;
  toggle: (right: Right, location: string) => void;
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
      <span className="mono" style={{ paddingLeft: label.depth * 18 }} title={row.location}>
        {label.depth > 0 && <span className="quiet">└ </span>}
        <span
          className={row.kind === "synthetic" ? "quiet" : undefined}
          style={{ fontWeight: row.kind === "virtual path" ? 650 : 400 }}
        >
          {label.label}
        </span>
      </span>
      <span style={{ display: "flex" }}>
        {RIGHTS.map((right) => [right, row.rights[right] ?? "no"] as const).map(([right, state]) => (
          <button
            key={right}
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
        ))}
      </span>
      <span className="quiet" style={{ paddingLeft: 14, fontSize: 12.5 }}>
        {row.place && row.kind === "virtual path" ? (
          <PlaceLink place={row.place} />
        ) : row.kind === "synthetic" ? (
          "leads to virtual paths"
        ) : (
          ""
        )}
      </span>
    </div>
  );
}
