import { LineChart } from "@mantine/charts";
import { Group, Select, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { answer, type FilledLimit, GET, type Limits, type Used } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";
import { type Column, PartTable } from "../parts/Table";
import { moment } from "../parts/time";
import { size } from "../parts/values";
import { Wrapped } from "../parts/Wrapped";

const BY = ["account", "group", "unit", "folder", "store"];
/** Limits as bars with their soft and hard marks, who fills them, how they grow; and usage summed up. */
export function LimitsPage() {
  const [search, setSearch] = useSearchParams();
  const query = useQuery({ queryKey: ["limits"], queryFn: () => answer(GET("/api/v1/limits")) });
  const chosen = search.get("limit");
  return (
    <Page title="Usage and limits" beside={<AddButton kind="quota" />}>
      <Loaded query={query}>
        {(data) => {
          const limit = data.limits.find((l) => `${l.kind} ${l.name}` === chosen) ?? data.limits[0];
          return (
            <div
              style={{
                display: "grid",
                gridTemplateColumns: "minmax(0, 1.35fr) minmax(0, 1fr)",
                gap: 18,
                alignItems: "start",
              }}
            >
              <div style={{ display: "grid", gap: 14, minWidth: 0 }}>
                <PartTable
                  label="Limits"
                  search="Part of its name"
                  rows={data.limits.flatMap((of) => sides(of).map((side, i) => ({ of, side, first: i === 0 })))}
                  columns={LIMITS}
                  keyOf={(r) => `${r.of.kind} ${r.of.name} ${r.side.what}`}
                  to={(r) => {
                    const next = { ...Object.fromEntries(search), limit: `${r.of.kind} ${r.of.name}` };
                    return `/limits?${new URLSearchParams(next)}`;
                  }}
                  chosen={(r) => r.of === limit}
                  one="limit"
                  tall
                  none="Nothing is limited: no quota, no capacity. Add a quota, or give a store its capacity."
                />
                <Promised promised={data.promised} />
                <UsageTable
                  by={search.get("by") ?? "account"}
                  put={(by) => setSearch({ ...Object.fromEntries(search), by }, { replace: true })}
                />
              </div>
              {limit && <Detail limit={limit} />}
            </div>
          );
        }}
      </Loaded>
    </Page>
  );
}

interface Side {
  what: "bytes" | "files";
  used: number;
  hard: number | null;
  soft: number | null;
  room: number | null;
  show: (n: number) => string;
}

const files = (n: number) => `${n.toLocaleString("en")} files`;

export function sides(l: {
  used_bytes: number;
  hard_bytes: number | null;
  soft_bytes: number | null;
  room_bytes: number | null;
  used_files: number;
  hard_files: number | null;
  soft_files: number | null;
  room_files: number | null;
}): Side[] {
  const both: Side[] = [
    { what: "bytes", used: l.used_bytes, hard: l.hard_bytes, soft: l.soft_bytes, room: l.room_bytes, show: size },
    { what: "files", used: l.used_files, hard: l.hard_files, soft: l.soft_files, room: l.room_files, show: files },
  ];
  return both.filter((s) => s.hard !== null || s.soft !== null);
}

interface LimitRow {
  of: FilledLimit;
  side: Side;
  /** The first line of its limit, which says what that is called. */
  first: boolean;
}

const LIMITS: Column<LimitRow>[] = [
  {
    head: "limit, the fullest first",
    track: "minmax(120px, 1.5fr)",
    by: (r) => r.of.called,
    show: (r) => <span className={r.first ? "wraps" : "wraps quiet"}>{r.of.called}</span>,
  },
  { head: "full", track: "minmax(60px, 1fr)", by: (r) => shareOf(r.side), show: (r) => <Bar side={r.side} /> },
  { head: "used", track: "86px", by: (r) => r.side.used, show: (r) => r.side.show(r.side.used) },
  {
    head: "hard",
    track: "86px",
    by: (r) => r.side.hard,
    show: ({ side }) => (
      <span className="quiet">{side.hard === null ? `soft ${side.show(side.soft ?? 0)}` : side.show(side.hard)}</span>
    ),
  },
  {
    head: "room",
    track: "80px",
    by: (r) => r.side.room,
    show: ({ side }) => (
      <span className={side.room === 0 ? "bad" : undefined}>
        {side.room === null ? "" : side.room === 0 ? "✕ none" : side.show(side.room)}
      </span>
    ),
  },
];

/** How much of it is used, of 1. */
function shareOf(side: Side): number {
  const most = side.hard ?? side.soft ?? 0;
  return most ? Math.min(side.used / most, 1) : side.used ? 1 : 0;
}

/** How full a limit is; the mark is the soft limit. */
function Bar({ side }: { side: Side }) {
  const share = shareOf(side);
  const over = share >= 1 || (side.soft !== null && side.used > side.soft);
  const colour = over ? "var(--sign-bad)" : share >= 0.9 ? "var(--sign-own)" : "var(--sign-yes)";
  return (
    <span
      role="img"
      aria-label={`${Math.round(share * 100)} % full`}
      style={{
        display: "block",
        position: "relative",
        height: 10,
        borderRadius: 3,
        background: "var(--stripe)",
        overflow: "hidden",
      }}
    >
      <span style={{ position: "absolute", inset: 0, width: `${share * 100}%`, background: colour }} />
      {side.soft !== null && side.hard ? (
        <span
          title={`soft limit ${side.show(side.soft)}`}
          style={{
            position: "absolute",
            top: 0,
            bottom: 0,
            left: `${(side.soft / side.hard) * 100}%`,
            width: 2,
            background: "var(--mantine-color-text)",
          }}
        />
      ) : null}
    </span>
  );
}

function Detail({ limit }: { limit: FilledLimit }) {
  const editable = limit.kind === "shared" || limit.kind === "folder";
  return (
    <section className="sheet" style={{ padding: "12px 16px", fontSize: 13 }} aria-label="What fills it">
      <Group justify="space-between" mb={6} wrap="nowrap">
        <Text fw={650}>{limit.called}</Text>
        {editable && <EditButton kind="quota" name={limit.name} />}
      </Group>
      {limit.place && <div className="mono quiet">{limit.place}</div>}
      {limit.grace_ends && (
        <div className="state-own" style={{ margin: "6px 0" }}>
          ▲ above its soft limit; the grace period {new Date(limit.grace_ends) <= new Date() ? "ended" : "ends"}{" "}
          {moment(limit.grace_ends)}
        </div>
      )}
      <Fillers heading="who fills it" used={limit.accounts} />
      <Fillers heading="where" used={limit.folders} />
      <Growth limit={limit} />
    </section>
  );
}

function Fillers({ heading, used }: { heading: string; used: Used[] }) {
  if (!used.length) return null;
  const most = Math.max(...used.map((u) => u.bytes), 1);
  return (
    <div style={{ marginTop: 10 }}>
      <Text fz="xs" className="quiet" mb={2}>
        {heading}
      </Text>
      {used.map((u) => (
        <div
          key={u.name}
          style={{
            display: "grid",
            gridTemplateColumns: "minmax(0, 1fr) 60px 74px 96px",
            gap: 8,
            paddingBlock: 2,
            alignItems: "center",
          }}
        >
          <span className="mono wraps">
            <Wrapped text={u.name || "nobody known"} />
          </span>
          <span
            style={{ height: 6, background: "var(--sign-yes)", width: `${(u.bytes / most) * 100}%`, borderRadius: 2 }}
          />
          <span>{size(u.bytes)}</span>
          <span className="quiet">{files(u.files)}</span>
        </div>
      ))}
    </div>
  );
}

/** What the censuses found, as a plot, and when the limit is reached at that rate. */
function Growth({ limit }: { limit: FilledLimit }) {
  if (limit.history.length < 2) {
    return (
      <Text fz="xs" className="quiet" mt={12}>
        Growth is told after two censuses or more.
      </Text>
    );
  }
  // Of a limit in bytes and in files the fuller side is the one that will be met first.
  const bySide = sides(limit).sort((a, b) => shareOf(b) - shareOf(a));
  const what = bySide[0]?.what ?? "bytes";
  const hard = what === "bytes" ? limit.hard_bytes : limit.hard_files;
  const show = what === "bytes" ? size : files;
  const day = (text: string) => text.slice(0, 10);
  const data = limit.history.map((p) => ({ at: day(p.at), used: p[what] }));
  return (
    <div style={{ marginTop: 14 }}>
      <Text fz="xs" className="quiet" mb={4}>
        growth, by {limit.history.length} censuses
      </Text>
      <LineChart
        h={180}
        data={data}
        dataKey="at"
        series={[{ name: "used", color: "var(--sign-yes)" }]}
        curveType="linear"
        valueFormatter={show}
        yAxisProps={{
          width: 74,
          domain: ["auto", hard !== null && hard < 1.25 * (data.at(-1)?.used ?? 0) ? hard : "auto"],
        }}
        referenceLines={hard === null ? [] : [{ y: hard, label: `hard limit ${show(hard)}`, color: "var(--sign-bad)" }]}
      />
      {bySide.map((side) => (
        <SideGrowth key={side.what} side={side} grown={limit.growth.find((g) => g.what === side.what)} />
      ))}
      <Text fz="xs" className="quiet">
        A straight line through what was found; the dates around it are where two standard errors of its slope put it.
      </Text>
    </div>
  );
}

/** How one side of a limit grows, and when it is full, where it is not yet. */
function SideGrowth({ side, grown }: { side: Side; grown: FilledLimit["growth"][number] | undefined }) {
  const day = (text: string) => text.slice(0, 10);
  const rate = Math.round(Math.abs(grown?.per_day ?? 0));
  return (
    <div>
      {side.room === 0 && (
        <b className="bad">
          ✕ full of {side.what}: {side.show(side.used)}
          {side.hard !== null && ` of ${side.show(side.hard)}`};{" "}
        </b>
      )}
      {side.what}:{" "}
      {rate > 0
        ? `${(grown?.per_day ?? 0) > 0 ? "grow" : "shrink"} by ${side.show(rate)} a day`
        : "no growth to speak of"}
      {side.room !== 0 && grown?.reached && (
        <>
          ; <b>full around {day(grown.reached)}</b>
          {grown.soonest && day(grown.soonest) !== day(grown.latest ?? "") && (
            <span className="quiet">
              {" "}
              (between {day(grown.soonest)} and {grown.latest ? day(grown.latest) : "never"})
            </span>
          )}
        </>
      )}
    </div>
  );
}

function Promised({ promised }: { promised: Limits["promised"] }) {
  if (!promised.length) return null;
  return (
    <section className="sheet" style={{ padding: "10px 16px", fontSize: 13 }} aria-label="Given away">
      <Text fz="xs" className="quiet" mb={4}>
        given away by limits, against what there is
      </Text>
      {promised.map((p) => (
        <div key={p.store}>
          {p.store ? `store ${p.store}` : "all stores together"}:{" "}
          <b className={p.given > p.capacity ? "bad" : undefined}>
            {size(p.given)} of {size(p.capacity)}
          </b>
          {p.unlimited_accounts > 0 && (
            <span className="quiet">
              {" "}
              · {p.unlimited_accounts === 1 ? "1 account" : `${p.unlimited_accounts} accounts`} without a limit in bytes
            </span>
          )}
        </div>
      ))}
    </section>
  );
}

function UsageTable({ by, put }: { by: string; put: (by: string) => void }) {
  const query = useQuery({
    queryKey: ["usage", by],
    queryFn: () => answer(GET("/api/v1/usage", { params: { query: { by: by as never, limit: 200 } } })),
  });
  return (
    <section className="sheet" aria-label="Usage" style={{ padding: "10px 16px" }}>
      <Group justify="space-between" mb={4}>
        <Text fz="xs" className="quiet">
          usage by
        </Text>
        <Select
          aria-label="Usage by"
          size="xs"
          w={130}
          data={BY}
          value={by}
          allowDeselect={false}
          onChange={(v) => put(v ?? "account")}
        />
      </Group>
      <Loaded query={query}>
        {(data) => (
          <div style={{ maxHeight: 280, overflow: "auto", fontSize: 13 }}>
            {data.lines.length === 0 ? (
              <Empty>No census was taken yet.</Empty>
            ) : (
              <Fillers heading="" used={data.lines} />
            )}
            {data.total > data.lines.length && <div className="quiet">and {data.total - data.lines.length} more</div>}
          </div>
        )}
      </Loaded>
    </section>
  );
}
