import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { Fragment, useMemo } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { answer, type ChangeKind, GET, named, type SubjectDetail } from "../api";
import { AccessChanges, SettingChanges } from "../parts/Consequences";
import { EditButton } from "../parts/Editor";
import { LineText, Note } from "../parts/Line";
import { AccountLink, PlaceLink, ReportButton } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, PartTable } from "../parts/Table";
import { shown } from "../parts/values";
import { Wrapped } from "../parts/Wrapped";
import { subjectPath } from "./GroupsPage";

/** A group or a unit: who is in it and how, what comes down from it, and whom its settings reach. */
export function SubjectPage() {
  const subject = useParams().subject ?? "";
  const navigate = useNavigate();
  const query = useQuery({
    queryKey: ["subject", subject],
    queryFn: () => answer(GET("/api/v1/subjects", { params: { query: { subject, limit: 200_000 } } })),
  });
  const [kind = "group", name = ""] = [subject.slice(0, subject.indexOf(":")), subject.slice(subject.indexOf(":") + 1)];
  return (
    <Page
      title={name}
      about={
        <>
          {kind}
          {query.data && `, ${query.data.total} ${query.data.total === 1 ? "account" : "accounts"}`}
          {query.data && query.data.source !== "local" && `, from the directory ${query.data.source}`}
        </>
      }
      beside={
        <Group gap={6}>
          {kind === "group" && <ReportButton about={subject} />}
          <EditButton kind="setting" name={subject} what={`settings of ${subject}`} label="Settings" />
          <EditButton
            kind={kind as ChangeKind}
            name={name}
            after={(to) => navigate(to ? subjectPath(`${kind}:${to}`) : "/groups", { replace: true })}
          />
        </Group>
      }
    >
      <Loaded query={query}>{(detail) => <Detail detail={detail} />}</Loaded>
    </Page>
  );
}

function Subjects({ label, names }: { label: string; names: string[] }) {
  if (!names.length) return null;
  return (
    <Text fz="sm">
      <span className="quiet">{label} </span>
      {names.slice(0, 40).map((n) => (
        <Fragment key={n}>
          <Link
            className="plain mono"
            style={{ marginRight: 8 }}
            to={n.startsWith("account:") ? `/accounts/${named(n.slice(8))}` : subjectPath(n)}
          >
            {n}
          </Link>{" "}
        </Fragment>
      ))}
      {names.length > 40 && <span className="quiet">and {names.length - 40} more</span>}
    </Text>
  );
}

type Member = SubjectDetail["accounts"][number];
type Given = SubjectDetail["gives"][number];
const through = (chain: string[]) => chain.join(" › ");
const GIVES: Column<Given>[] = [
  {
    head: "what comes down from it",
    track: "minmax(120px, 1fr)",
    by: (g) => g.where,
    show: (g) => (
      <span className="wraps">
        <Where kind={g.kind} where={g.where} />
      </span>
    ),
  },
  {
    head: "the line",
    track: "minmax(120px, 1.3fr)",
    by: (g) => g.line,
    show: (g) => <span className="mono wraps">{g.line}</span>,
  },
  {
    head: "through",
    track: "minmax(80px, 1fr)",
    by: (g) => through(g.chain.slice(1)),
    show: (g) => <span className="quiet wraps">{through(g.chain.slice(1))}</span>,
  },
];

function Detail({ detail }: { detail: SubjectDetail }) {
  const [search, setSearch] = useSearchParams();
  const chosen = search.get("without");
  const members = useMemo<Column<Member>[]>(
    () => [
      { head: "who is in it", track: "minmax(130px, 1fr)", by: (a) => a.account, show: (a) => a.account },
      {
        head: "through",
        track: "minmax(100px, 1.3fr)",
        by: (a) => through(a.chain.slice(1, -1)) || "directly",
        show: (a) => <span className="quiet wraps">{through(a.chain.slice(1, -1)) || "directly"}</span>,
      },
      {
        head: "",
        track: "82px",
        show: (a) => (
          <button
            type="button"
            className="link"
            onClick={(e) => {
              e.stopPropagation();
              setSearch(a.account === chosen ? {} : { without: a.account }, { replace: true });
            }}
          >
            without it?
          </button>
        ),
      },
    ],
    [chosen, setSearch],
  );
  return (
    <div style={{ display: "grid", gap: 14 }}>
      <Note note={detail.note} />
      <Subjects label="holds" names={detail.members.filter((x) => !x.until && !x.note).map((x) => x.line)} />
      {detail.members
        .filter((x) => x.until || x.note)
        .map((x) => (
          <LineText key={x.line} line={x} />
        ))}
      <Subjects label="held by" names={detail.held_by.map((g) => `group:${g}`)} />
      <div
        style={{
          display: "grid",
          gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1.35fr)",
          gap: 18,
          alignItems: "start",
        }}
      >
        <div style={{ display: "grid", gap: 14 }}>
          <PartTable
            label="Members"
            search="Part of a name, of what it is through"
            rows={detail.accounts}
            columns={members}
            keyOf={(a) => a.account}
            to={(a) => `/accounts/${named(a.account)}`}
            chosen={(a) => a.account === chosen}
            one="account"
            tall
            none="Nobody is in it yet: edit it, or join accounts to it."
          />
          {detail.settings.length > 0 && <Reaches settings={detail.settings} />}
        </div>
        <div style={{ display: "grid", gap: 14 }}>
          {chosen && <Without account={chosen} subject={detail.subject} />}
          <PartTable
            label="What comes down from it"
            search="Part of a place, of a line"
            rows={detail.gives}
            columns={GIVES}
            keyOf={(g) => g.kind + g.where + g.line}
            one="line"
            none="Nothing names it, or a group that holds it."
            tall
          />
        </div>
      </div>
    </div>
  );
}

function Where({ kind, where }: { kind: string; where: string }) {
  if (kind === "folder") return <PlaceLink place={where} />;
  if (kind === "virtual path") {
    return (
      <Link className="plain mono" to={`/virtual-paths?path=${encodeURIComponent(where)}`}>
        <Wrapped text={where} />
      </Link>
    );
  }
  return (
    <span>
      <span className="quiet">{kind}</span> {kind === "setting" ? "" : where}
    </span>
  );
}

function Reaches({ settings }: { settings: SubjectDetail["settings"] }) {
  return (
    <section className="sheet" aria-label="Whom its settings reach" style={{ padding: "10px 16px", fontSize: 13 }}>
      <Text fz="xs" className="quiet" mb={6}>
        whom its settings reach
      </Text>
      {settings.map((s) => (
        <div key={s.name} style={{ marginBottom: 8 }}>
          <span className="mono">{s.name}</span> <b>{shown(s.name, s.value)}</b>{" "}
          <span className="quiet">
            reaches {s.reaches.length} of {s.reaches.length + s.nearer.length}
          </span>
          {s.nearer.slice(0, 12).map((n) => (
            <div key={n.account} style={{ paddingLeft: 14 }}>
              <span className="state-own">▲</span> <AccountLink name={n.account} />:{" "}
              {n.subjects.join(" and ") || "a stricter value"} goes before it
            </div>
          ))}
          {s.nearer.length > 12 && <div className="quiet">and {s.nearer.length - 12} more</div>}
        </div>
      ))}
    </section>
  );
}

/** What an account would lose out of the group, however it came to be in it. */
function Without({ account, subject }: { account: string; subject: string }) {
  const query = useQuery({
    queryKey: ["without", account, subject],
    queryFn: () =>
      answer(GET("/api/v1/accounts/{name}/without", { params: { path: { name: account }, query: { subject } } })),
  });
  return (
    <section className="sheet" aria-label="What it would lose" style={{ padding: "12px 16px", fontSize: 13 }}>
      <Text fw={650} fz="sm" mb={8}>
        Without {subject}, {account} would lose
      </Text>
      <Loaded query={query}>
        {(loss) => (
          <>
            <AccessChanges access={loss.access} />
            <SettingChanges settings={loss.settings} />
            {loss.access.length + loss.settings.length === 0 && (
              <span className="quiet">nothing: it has all of it in other ways</span>
            )}
          </>
        )}
      </Loaded>
    </section>
  );
}
