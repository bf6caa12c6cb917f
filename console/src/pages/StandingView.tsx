import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, GET, type Standing } from "../api";
import { EditButton } from "../parts/Editor";
import { type Column, Table } from "../parts/Table";
import { shown } from "../parts/values";

const CLASSES = ["itself", "groups", "units", "everybody who signs in", "anyone"];

type Counted = Standing["standing"][number];
type Setting = Standing["settings"][number];
const isGroupOrUnit = (s: Counted) => s.class === 1 || s.class === 2;
const steps = (s: Counted) => (s.class < 3 ? s.chain.slice(1, -1) : []);

const COUNTS_AS: Column<Counted>[] = [
  {
    head: "rank",
    track: "56px",
    by: (s) => s.class * 1000 + s.distance,
    show: (s) => (
      <span className="mono quiet" title={CLASSES[s.class]}>
        {s.class}.{s.distance}
      </span>
    ),
  },
  {
    head: "counts as",
    track: "minmax(200px, 1.2fr)",
    by: (s) => s.subject,
    show: (s) =>
      isGroupOrUnit(s) ? (
        <Link className="plain mono" to={`/subjects/${encodeURIComponent(s.subject)}`}>
          {s.subject}
        </Link>
      ) : (
        <span className="mono">{s.subject}</span>
      ),
  },
  {
    head: "through",
    track: "1fr",
    by: (s) => steps(s).join(" "),
    show: (s) => (
      <span className="quiet" style={{ fontSize: 12.5, whiteSpace: "normal" }}>
        {steps(s).join(" › ") || (isGroupOrUnit(s) ? "directly" : "")}
      </span>
    ),
  },
];

const SETTINGS: Column<Setting>[] = [
  { head: "setting", track: "120px", by: (c) => c.name, show: (c) => <span className="mono">{c.name}</span> },
  {
    head: "value",
    track: "1fr",
    show: (c) => <span className={c.subjects.length ? "wraps" : "wraps quiet"}>{shown(c.name, c.value)}</span>,
  },
  {
    head: "from",
    track: "1.2fr",
    by: (c) => c.subjects.join(" "),
    show: (c) => (
      <span style={{ fontSize: 12.5, whiteSpace: "normal" }}>
        {c.subjects.length ? (
          <>
            <span className="mono">{c.subjects.join(" and ")}</span>
            {c.overruled.length > 0 && <span className="quiet"> over {c.overruled.join(", ")}</span>}
          </>
        ) : (
          <span className="quiet">default</span>
        )}
      </span>
    ),
  },
];

/** What an account counts as, nearest first, and where each of its settings comes from. */
export function StandingView({ standing }: { standing: Standing }) {
  return (
    <div
      style={{
        display: "grid",
        gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1.1fr)",
        gap: 18,
        alignItems: "start",
      }}
    >
      <section aria-label="Standing">
        <Table
          label="What it counts as"
          rows={standing.standing}
          columns={COUNTS_AS}
          keyOf={(s) => s.subject}
          one="subject"
          none="Nothing."
          tall
        />
      </section>
      <section aria-label="Settings">
        <Table
          label="What is set for it"
          rows={standing.settings}
          columns={SETTINGS}
          keyOf={(c) => c.name}
          one="setting"
          none="Nothing."
          tall
        />
        <Group justify="flex-end" mt={6}>
          <EditButton kind="setting" name={`account:${standing.account.name}`} what="its own settings" />
        </Group>
      </section>
      <Ways account={standing.account.name} />
      <Text fz="xs" className="quiet" style={{ gridColumn: "1 / -1" }}>
        Nearer ranks come first: a smaller class, then a smaller distance. For each setting the nearest that sets it
        holds; equally near ones, the stricter.
      </Text>
    </div>
  );
}

/** Each way in which the account came to be in each of its groups, where there are several. */
function Ways({ account }: { account: string }) {
  const query = useQuery({
    queryKey: ["ways", account],
    queryFn: () => answer(GET("/api/v1/accounts/{name}/ways", { params: { path: { name: account } } })),
  });
  const several = query.data?.groups.filter((g) => g.chains.length > 1) ?? [];
  if (!several.length) return null;
  return (
    <section className="sheet" aria-label="Ways into its groups" style={{ padding: "10px 16px", fontSize: 13 }}>
      <Text fz="xs" className="quiet" mb={4}>
        in these groups by several ways
      </Text>
      {several.map((g) => (
        <div key={g.group} style={{ marginBottom: 6 }}>
          <b>{g.group}</b>
          {g.chains.map((chain) => (
            <div key={chain.join()} className="mono" style={{ paddingLeft: 12 }}>
              {chain.slice(1).join(" › ")}
            </div>
          ))}
        </div>
      ))}
    </section>
  );
}
