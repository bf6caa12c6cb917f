import { Group, Text } from "@mantine/core";
import { useQueries } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { answer, GET, type MapWindow, named, type State } from "../api";
import { Legend, MARKS, MEANINGS } from "../parts/marks";
import { Failed } from "../parts/states";
import { tail } from "../parts/tree";

const BLOCK = 100;
export const ALL = "all, as letters";
const HEAD = 190;
const LABEL = 170;
const ROW = 26;

export interface Choice {
  right: string;
  matching: string;
  group: string;
  unit: string;
  store: string;
  under: string;
  deepest: string;
}

const many = (count: number, of: string) => `${count.toLocaleString("en")} ${of}${count === 1 ? "" : "s"}`;

/** A block of the map; `whole` so many accounts and locations from the first on. */
export function windowOf(choice: Choice, i: number, j: number, whole?: [accounts: number, locations: number]) {
  const query = {
    ...choice,
    under: choice.under || "/",
    right: choice.right === ALL ? undefined : choice.right,
    account_offset: i * BLOCK,
    account_limit: whole?.[0] ?? BLOCK,
    location_offset: j * BLOCK,
    location_limit: whole?.[1] ?? BLOCK,
    deepest: choice.deepest === "" ? undefined : Number(choice.deepest),
  };
  return answer(GET("/api/v1/map", { params: { query } }));
}

/** The locations that are shown, by their places in the map; all, where nothing is folded. */
export interface Folded {
  shown: number[];
  /** How many below each of them are the same. */
  below: number[];
  opened: ReadonlySet<string>;
  open: (location: string) => void;
}

export function Grid({ choice, first, folded }: { choice: Choice; first: MapWindow; folded?: Folded }) {
  const letters = choice.right === ALL;
  const width = letters ? 108 : 28;
  const box = useRef<HTMLDivElement>(null);
  const navigate = useNavigate();
  const [at, setAt] = useState<[number, number]>([0, 0]);
  const rows = useVirtualizer({
    count: first.total_accounts,
    getScrollElement: () => box.current,
    estimateSize: () => ROW,
    overscan: 10,
    paddingStart: HEAD,
    scrollPaddingStart: HEAD,
  });
  const columns = useVirtualizer({
    horizontal: true,
    count: folded ? folded.shown.length : first.total_locations,
    getScrollElement: () => box.current,
    estimateSize: () => width,
    overscan: 8,
    paddingStart: LABEL,
    scrollPaddingStart: LABEL,
  });
  /** Where in the map a column is. */
  const real = (c: number) => (folded ? (folded.shown[c] ?? 0) : c);
  const found = new Map<string, [number, number]>();
  for (const row of rows.getVirtualItems())
    for (const column of columns.getVirtualItems()) {
      const block: [number, number] = [Math.floor(row.index / BLOCK), Math.floor(real(column.index) / BLOCK)];
      found.set(block.join(), block);
    }
  const blocks = [...found.values()];
  const windows = useQueries({
    queries: blocks.map(([i, j]) => ({
      queryKey: ["map", choice, i, j],
      queryFn: () => windowOf(choice, i, j),
      staleTime: 10_000,
    })),
  });
  const byBlock = new Map(blocks.map((block, n) => [block.join(), windows[n]?.data]));
  const failed = windows.find((w) => w.error)?.error;
  const blockAt = (i: number, j: number) => byBlock.get([Math.floor(i / BLOCK), Math.floor(j / BLOCK)].join());
  const cell = (i: number, c: number) => blockAt(i, real(c))?.cells[i % BLOCK]?.[real(c) % BLOCK];
  /** What a row or a column is called, by any block of it that is there. */
  const called = (axis: 0 | 1, n: number) => {
    for (const [block, data] of byBlock)
      if (Number(block.split(",")[axis]) === Math.floor(n / BLOCK) && data)
        return (axis === 0 ? data.accounts : data.locations)[n % BLOCK];
  };
  const accountAt = (i: number) => called(0, i);
  const locationAt = (c: number) => called(1, real(c));
  const open = (i: number, j: number) => {
    const account = accountAt(i);
    const right = letters ? "enter" : choice.right;
    if (account && cell(i, j))
      navigate(`/accounts/${named(account)}?why=${encodeURIComponent(`${right}@${locationAt(j)}`)}`);
  };
  const keys = (event: KeyboardEvent) => {
    const step = { ArrowDown: [1, 0], ArrowUp: [-1, 0], ArrowRight: [0, 1], ArrowLeft: [0, -1] }[event.key];
    if (step) {
      event.preventDefault();
      const i = Math.max(0, Math.min(first.total_accounts - 1, at[0] + (step[0] ?? 0)));
      const j = Math.max(
        0,
        Math.min((folded ? folded.shown.length : first.total_locations) - 1, at[1] + (step[1] ?? 0)),
      );
      setAt([i, j]);
      rows.scrollToIndex(i);
      columns.scrollToIndex(j);
    } else if (event.key === "Enter") open(at[0], at[1]);
    else if (event.key === " " && folded) {
      event.preventDefault();
      folded.open(locationAt(at[1]) ?? "");
    }
  };
  if (failed) return <Failed error={failed} />;
  const here = cell(at[0], at[1]);
  return (
    <>
      <div
        ref={box}
        className="sheet rows"
        style={{ flex: 1, minHeight: 0, position: "relative" }}
        tabIndex={0}
        onKeyDown={keys}
        role="grid"
        aria-label="Map"
      >
        <div style={{ width: columns.getTotalSize(), height: rows.getTotalSize(), position: "relative" }}>
          <div
            role="row"
            tabIndex={-1}
            style={{
              position: "sticky",
              top: 0,
              height: HEAD,
              zIndex: 3,
              background: "var(--sheet)",
              borderBottom: "1px solid var(--edge)",
              width: columns.getTotalSize(),
            }}
          >
            <div
              role="columnheader"
              tabIndex={-1}
              style={{
                position: "sticky",
                left: 0,
                width: LABEL,
                height: HEAD,
                background: "var(--sheet)",
                zIndex: 4,
                borderRight: "1px solid var(--edge)",
                boxSizing: "border-box",
                padding: "10px 14px",
                display: "flex",
                alignItems: "flex-end",
              }}
            >
              <Text fz="xs" className="quiet">
                {many(first.total_accounts, "account")} by {many(first.total_locations, "location")}
              </Text>
            </div>
            {columns.getVirtualItems().map((c) => (
              <div
                key={c.key}
                role="columnheader"
                tabIndex={-1}
                className="mono"
                title={locationAt(c.index)}
                style={{
                  position: "absolute",
                  left: c.start,
                  width,
                  bottom: 6,
                  height: HEAD - 14,
                  writingMode: "vertical-rl",
                  transform: "rotate(180deg)",
                  lineHeight: `${width}px`,
                  overflow: "hidden",
                  textOverflow: "ellipsis",
                  whiteSpace: "nowrap",
                  fontWeight: c.index === at[1] ? 700 : 400,
                }}
              >
                {tail(locationAt(c.index) ?? "…", 23)}
                {folded && <Below at={c.index} location={locationAt(c.index) ?? ""} folded={folded} />}
              </div>
            ))}
          </div>
          {rows.getVirtualItems().map((r) => (
            <div key={r.key} role="row" tabIndex={-1}>
              <div
                role="rowheader"
                tabIndex={-1}
                style={{
                  position: "absolute",
                  top: r.start,
                  left: 0,
                  width: "100%",
                  pointerEvents: "none",
                  zIndex: 2,
                }}
              >
                <div
                  style={{
                    position: "sticky",
                    left: 0,
                    width: LABEL,
                    height: ROW,
                    lineHeight: `${ROW}px`,
                    padding: "0 14px",
                    boxSizing: "border-box",
                    background: "var(--sheet)",
                    borderRight: "1px solid var(--edge)",
                    overflow: "hidden",
                    textOverflow: "ellipsis",
                    fontWeight: r.index === at[0] ? 700 : 400,
                    fontSize: 13,
                  }}
                >
                  {accountAt(r.index) ?? "…"}
                </div>
              </div>
              {columns.getVirtualItems().map((c) => {
                const state = cell(r.index, c.index);
                return (
                  <div
                    key={c.key}
                    role="gridcell"
                    tabIndex={-1}
                    className={`map-cell ${letters ? "mono" : state ? `state-${state}` : ""}`}
                    data-at={r.index === at[0] && c.index === at[1]}
                    style={{
                      top: r.start,
                      left: c.start,
                      width,
                      height: ROW,
                      lineHeight: `${ROW}px`,
                      boxSizing: "border-box",
                      fontSize: letters ? 11 : 14,
                      background: state ? undefined : "var(--stripe)",
                    }}
                    onMouseEnter={() => setAt([r.index, c.index])}
                    onClick={() => open(r.index, c.index)}
                    onKeyDown={() => undefined}
                  >
                    {letters ? state : state ? MARKS[state as State] : ""}
                  </div>
                );
              })}
            </div>
          ))}
        </div>
      </div>
      <Group justify="space-between" fz="sm">
        <Text fz="sm">
          {accountAt(at[0]) && locationAt(at[1]) ? (
            <>
              <b>{accountAt(at[0])}</b> at <span className="mono">{locationAt(at[1])}</span>: {told(here, choice.right)}
            </>
          ) : (
            <span className="quiet">
              Point at a cell, or use the arrow keys; Enter tells why
              {folded ? ", the space bar opens what is folded" : ""}.
            </span>
          )}
        </Text>
        {letters ? (
          <Text fz="xs" className="quiet">
            folder: c upload d delete e enter l list m make folders p delete files / files: a append d delete f rename r
            download w overwrite (own)
          </Text>
        ) : (
          <Legend />
        )}
      </Group>
    </>
  );
}

/** How many locations below one are the same, and are folded into it. */
function Below({ at, location, folded }: { at: number; location: string; folded: Folded }) {
  const below = folded.below[at] ?? 0;
  const opened = folded.opened.has(location);
  if (!below && !opened) return null;
  return (
    <button
      type="button"
      className="link"
      tabIndex={-1}
      title={opened ? `Fold ${location}` : `${below} below ${location} are the same`}
      aria-label={opened ? `Fold ${location}` : `Open ${below} below ${location}`}
      onClick={() => folded.open(location)}
    >
      {opened ? " −" : ` +${below}`}
    </button>
  );
}

/** What a cell says, in words. */
function told(cell: string | null | undefined, right: string) {
  if (cell == null) return <span className="quiet">no such location for it</span>;
  return right === ALL ? <span className="mono">{cell}</span> : `${right}: ${MEANINGS[cell as State]}`;
}
