import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { answer, GET, type Standing } from "../api";
import { EditButton } from "../parts/Editor";
import { shown } from "../parts/values";

const CLASSES = ["itself", "groups", "units", "everybody who signs in", "anyone"];

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
      <section className="sheet" aria-label="Standing">
        <div className="row head" style={{ gridTemplateColumns: "52px 1fr 1.3fr", height: 32 }}>
          <span>rank</span>
          <span>counts as</span>
          <span>through</span>
        </div>
        {standing.standing.map((s) => {
          const steps = s.class < 3 ? s.chain.slice(1, -1) : [];
          return (
            <div
              key={s.subject}
              className="row"
              style={{ gridTemplateColumns: "52px 1fr 1.3fr", minHeight: 32, cursor: "default" }}
              title={CLASSES[s.class]}
            >
              <span className="mono quiet">
                {s.class}.{s.distance}
              </span>
              {s.class === 1 || s.class === 2 ? (
                <Link className="plain mono" to={`/subjects/${encodeURIComponent(s.subject)}`}>
                  {s.subject}
                </Link>
              ) : (
                <span className="mono">{s.subject}</span>
              )}
              <span className="quiet" style={{ fontSize: 12.5, whiteSpace: "normal" }}>
                {steps.length ? steps.join(" › ") : s.class === 1 || s.class === 2 ? "directly" : ""}
              </span>
            </div>
          );
        })}
      </section>
      <section className="sheet" aria-label="Settings">
        <div className="row head" style={{ gridTemplateColumns: "120px 1fr 1.4fr", height: 32 }}>
          <span>setting</span>
          <span>value</span>
          <Group justify="space-between" wrap="nowrap">
            <span>from</span>
            <EditButton kind="setting" name={`account:${standing.account.name}`} what="its own settings" />
          </Group>
        </div>
        {standing.settings.map((c) => (
          <div
            key={c.name}
            className="row"
            style={{ gridTemplateColumns: "120px 1fr 1.4fr", minHeight: 32, cursor: "default" }}
          >
            <span className="mono">{c.name}</span>
            <span className={c.subjects.length ? undefined : "quiet"}>{shown(c.name, c.value)}</span>
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
          </div>
        ))}
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
