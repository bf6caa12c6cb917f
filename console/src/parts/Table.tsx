import { Kbd, Text, TextInput } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { IconArrowDown, IconArrowUp, IconSearch } from "@tabler/icons-react";
import {
  type ColumnDef,
  type ColumnSizingState,
  getCoreRowModel,
  getFilteredRowModel,
  getSortedRowModel,
  type Header,
  type Row,
  type SortingState,
  useReactTable,
} from "@tanstack/react-table";
import { useVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, type ReactNode, useDeferredValue, useEffect, useMemo, useRef, useState } from "react";
import { flushSync } from "react-dom";
import { Link, useNavigate } from "react-router";
import { Empty } from "./states";

export interface Column<T> {
  head: string;
  /** How wide it is until somebody draws it wider or narrower: a track of a grid. */
  track: string;
  /** What its rows are sorted and found by; without, they are not. */
  by?: (row: T) => string | number | null | undefined;
  show: (row: T) => ReactNode;
}

interface Props<T> {
  label: string;
  rows: T[];
  columns: Column<T>[];
  keyOf: (row: T) => string;
  /** Where a row leads to. */
  to?: (row: T) => string;
  /** What is said where there are none at all. */
  none: ReactNode;
  /** What one row is called where no row is found. */
  one: string;
  matching?: string;
  chosen?: (row: T) => boolean;
  /** Rows that are as high as what is in them. */
  tall?: boolean;
}

/** More rows than these are made only where they are looked at. */
const MANY = 100;
const HEIGHT = 34;

/** A list: sorted by a click on a head, its columns drawn wider at the edge, moved through with the arrow keys. */
export function Table<T>({ label, rows, columns, keyOf, to, none, one, matching = "", chosen, tall }: Props<T>) {
  const navigate = useNavigate();
  const wanted = useDeferredValue(matching.trim().toLowerCase());
  const [sorting, setSorting] = useState<SortingState>([]);
  const [columnSizing, setColumnSizing] = useState<ColumnSizingState>({});
  const defined = useMemo<ColumnDef<T>[]>(
    () =>
      columns.map((c, i) => ({
        id: String(i),
        header: c.head,
        accessorFn: (row) => c.by?.(row) ?? undefined,
        enableSorting: c.by !== undefined,
        sortUndefined: "last",
        sortDescFirst: false,
        minSize: 40,
      })),
    [columns],
  );
  const table = useReactTable({
    data: rows,
    columns: defined,
    state: { sorting, columnSizing, globalFilter: wanted },
    onSortingChange: setSorting,
    onColumnSizingChange: setColumnSizing,
    columnResizeMode: "onChange",
    globalFilterFn: (row) =>
      columns.some((c) =>
        String(c.by?.(row.original) ?? "")
          .toLowerCase()
          .includes(wanted),
      ),
    getColumnCanGlobalFilter: () => true,
    getCoreRowModel: getCoreRowModel(),
    getFilteredRowModel: getFilteredRowModel(),
    getSortedRowModel: getSortedRowModel(),
  });
  const shown = table.getRowModel().rows;
  const box = useRef<HTMLDivElement>(null);
  const [at, setShownAt] = useState(0);
  // Where it is by now: keys may come faster than what they do is drawn.
  const now = useRef(0);
  const setAt = (next: number) => {
    now.current = next;
    setShownAt(next);
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: another filter or order begins at the top again
  useEffect(() => setAt(0), [wanted, sorting]);
  const many = shown.length > MANY;
  const some = useVirtualizer({
    count: many ? shown.length : 0,
    getScrollElement: () => box.current,
    estimateSize: () => HEIGHT,
    overscan: 12,
  });
  const open = (row?: Row<T>) => row && to && navigate(to(row.original));
  const keys = (event: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 15, PageUp: -15 }[event.key];
    if (event.target !== box.current) return;
    if (step && to) {
      event.preventDefault();
      const next = Math.max(0, Math.min(shown.length - 1, now.current + step));
      setAt(next);
      if (many) some.scrollToIndex(next);
      else box.current?.querySelectorAll('[role="row"]')[next]?.scrollIntoView({ block: "nearest" });
    } else if (event.key === "Enter") open(shown[at]);
  };
  useHotkeys(
    [
      ["ArrowDown", (event) => isFree(event) && to && box.current?.focus({ preventScroll: true }), ELSEWHERE_TOO],
      ["Enter", (event) => isFree(event) && open(shown[at]), ELSEWHERE_TOO],
    ],
    [],
  );
  const tracks = columns.map((c, i) => (columnSizing[i] ? `${columnSizing[i]}px` : c.track)).join(" ");
  const line = (
    row: Row<T>,
    index: number,
    more?: { style?: React.CSSProperties; ref?: (e: Element | null) => void },
  ) => (
    // biome-ignore lint/a11y/useKeyWithClickEvents: the arrow keys and Enter do it for the whole list
    <div
      key={keyOf(row.original)}
      ref={more?.ref}
      data-index={index}
      className="row"
      role="row"
      tabIndex={-1}
      data-chosen={chosen ? chosen(row.original) : to !== undefined && index === at}
      data-tall={tall}
      style={{ gridTemplateColumns: tracks, cursor: to ? "pointer" : "default", ...more?.style }}
      onClick={() => open(row)}
    >
      {columns.map((c, i) => (
        <span key={c.head} role="gridcell">
          {i === 0 && to ? (
            <Link className="whole" to={to(row.original)} tabIndex={-1} onClick={(e) => e.stopPropagation()}>
              {c.show(row.original)}
            </Link>
          ) : (
            c.show(row.original)
          )}
        </span>
      ))}
    </div>
  );
  return (
    <div className="sheet table" data-many={many}>
      <div className="row head" style={{ gridTemplateColumns: tracks, height: 32 }}>
        {table.getFlatHeaders().map((header) => (
          <Head key={header.id} header={header} sizes={setColumnSizing} />
        ))}
      </div>
      {shown.length === 0 && <Empty>{rows.length ? `No ${one} matches “${matching}”.` : none}</Empty>}
      {shown.length > 0 && (
        <div ref={box} className="rows" tabIndex={0} onKeyDown={keys} role="grid" aria-label={label}>
          {many ? (
            <div style={{ height: some.getTotalSize(), position: "relative" }}>
              {some.getVirtualItems().map((item) => {
                const row = shown[item.index];
                const style = {
                  position: "absolute",
                  width: "100%",
                  transform: `translateY(${item.start}px)`,
                } as const;
                return row && line(row, item.index, { style, ref: tall ? some.measureElement : undefined });
              })}
            </div>
          ) : (
            shown.map((row, index) => line(row, index))
          )}
        </div>
      )}
      {to && rows.length > 0 && (
        <Text fz="xs" className="quiet foot">
          {shown.length === rows.length ? "" : `${shown.length} of `}
          {rows.length} {rows.length === 1 ? one : `${one}s`} · ↑ ↓ to move, Enter to open
        </Text>
      )}
    </div>
  );
}

/** What a key does besides, such as sending a form, it goes on to do. */
const ELSEWHERE_TOO = { preventDefault: false };

/** Is a key pressed where nothing else waits for it: on the page itself, or in the field that a list is searched by? */
const isFree = (event: globalThis.KeyboardEvent) =>
  event.target === document.body || (event.target instanceof Element && event.target.matches("[data-search]"));

/** The head of a column: a click sorts by it; its edge is drawn. */
function Head<T>({ header, sizes }: { header: Header<T, unknown>; sizes: (sizes: ColumnSizingState) => void }) {
  const { column } = header;
  const order = column.getIsSorted();
  const name = String(column.columnDef.header);
  const Arrow = order === "desc" ? IconArrowDown : IconArrowUp;
  const draw = (event: React.MouseEvent<HTMLElement>) => {
    const cells = [...(event.currentTarget.closest(".head")?.children ?? [])] as HTMLElement[];
    const widths = header.headerGroup.headers.map((h, i) => [h.column.id, cells[i]?.offsetWidth ?? 0] as const);
    // All columns keep the width that they have now, and this one is drawn from there.
    flushSync(() => sizes(Object.fromEntries(widths)));
    header.getResizeHandler()(event);
  };
  return (
    <span className="headCell">
      {column.getCanSort() ? (
        <button
          type="button"
          aria-label={`Sort by ${name}`}
          aria-pressed={order !== false}
          onClick={column.getToggleSortingHandler()}
        >
          {name}
          {order && <Arrow size={12} />}
        </button>
      ) : (
        name
      )}
      <i className="edge" onMouseDown={draw} />
    </span>
  );
}

/** What a list is searched by: a field for the head of the page; `/` leads to it. */
export function useFilter(label: string, placeholder: string, begins = "") {
  const [matching, setMatching] = useState(begins || (new URLSearchParams(window.location.search).get("find") ?? ""));
  const field = useRef<HTMLInputElement>(null);
  useHotkeys([["/", () => field.current?.focus()]]);
  const input = (
    <TextInput
      ref={field}
      data-search
      aria-label={label}
      placeholder={placeholder}
      autoFocus
      w={300}
      leftSection={<IconSearch size={15} />}
      rightSection={<Kbd size="xs">/</Kbd>}
      value={matching}
      onChange={(e) => setMatching(e.currentTarget.value)}
    />
  );
  return [matching, input] as const;
}

/** So many rows are looked through by eye. */
export const FEW = 20;

/** A list that is a part of a page, no higher than what is left beside the rest; searched, where it is long. */
export function PartTable<T>({ search, ...list }: Omit<Props<T>, "matching"> & { search: string }) {
  const [matching, filter] = useFilter(`Find in ${list.label}`, search);
  return (
    <div className="bounded">
      {list.rows.length > FEW && filter}
      <Table {...list} matching={matching} />
    </div>
  );
}
