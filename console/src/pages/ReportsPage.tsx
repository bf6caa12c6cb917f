import { Anchor, Button, FileInput, Group, Text, TextInput } from "@mantine/core";
import { IconReportAnalytics } from "@tabler/icons-react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { answer, GET, POST, type Report, type ReportLine, type ReportRow } from "../api";
import { AccountLink } from "../parts/marks";
import { AboutPicker } from "../parts/pickers";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table } from "../parts/Table";

const day = (text: string) => text.slice(0, 10);
const DOCUMENTS = [
  ["pdf", "PDF"],
  ["xlsx", "Workbook"],
  ["html", "Page"],
] as const;

const LIST: Column<ReportLine>[] = [
  { head: "report", track: "80px", by: (r) => r.number, show: (r) => <b>{r.number}</b> },
  {
    head: "about",
    track: "minmax(200px, 2fr)",
    by: (r) => r.about,
    show: (r) => <span className="mono">{r.about}</span>,
  },
  { head: "revision", track: "90px", by: (r) => r.revision, show: (r) => r.revision },
  { head: "made", track: "110px", by: (r) => r.made, show: (r) => day(r.made) },
  { head: "by", track: "120px", by: (r) => r.made_by, show: (r) => r.made_by },
  {
    head: "signed",
    track: "minmax(180px, 1.5fr)",
    by: (r) => r.signed?.by,
    show: (r) =>
      r.signed ? (
        <span className="good">
          ● {day(r.signed.at)}, {r.signed.by}
        </span>
      ) : (
        <span className="state-own">○ not yet</span>
      ),
  },
];

/** Reports of who can get at what, for whoever answers for it to go through and sign. */
export function ReportsPage() {
  const query = useQuery({ queryKey: ["reports"], queryFn: () => answer(GET("/api/v1/reports")) });
  return (
    <Page title="Reports" beside={<MakeReport />}>
      <Text fz="sm" className="quiet">
        Who can get at a folder, a store or a group, to be gone through by whoever answers for it. What is to go comes
        back as a draft.
      </Text>
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Reports"
            rows={data.reports}
            columns={LIST}
            keyOf={(r) => String(r.number)}
            to={(r) => `/reports/${r.number}`}
            one="report"
            none="There is none yet: make one about a folder such as survey:/inbox, store:public, or group:boats."
          />
        )}
      </Loaded>
    </Page>
  );
}

function MakeReport() {
  const [search] = useSearchParams();
  const [about, setAbout] = useState(search.get("about") ?? "");
  const navigate = useNavigate();
  const client = useQueryClient();
  const make = useMutation({
    mutationFn: () => answer(POST("/api/v1/reports", { body: { about: about.trim() } })),
    onSuccess: async (made) => {
      await client.invalidateQueries({ queryKey: ["reports"] });
      navigate(`/reports/${made.number}`);
    },
  });
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (about.trim()) make.mutate();
      }}
    >
      <Group gap={8} align="flex-start" wrap="nowrap">
        <AboutPicker
          size="xs"
          w={260}
          aria-label="About"
          placeholder="survey:/inbox, store:public, group:boats"
          value={about}
          onChange={setAbout}
          error={make.error?.message}
        />
        <Button size="xs" type="submit" loading={make.isPending}>
          Make a report
        </Button>
      </Group>
    </form>
  );
}

const ROWS: Column<ReportRow>[] = [
  { head: "row", track: "50px", by: (r) => r.number, show: (r) => r.number },
  {
    head: "where",
    track: "minmax(200px, 1.2fr)",
    by: (r) => r.place,
    show: (r) => (
      <div className="mono" style={{ whiteSpace: "normal", overflowWrap: "anywhere" }}>
        {r.place}
        {r.location && <div className="quiet">seen at {r.location}</div>}
      </div>
    ),
  },
  {
    head: "who",
    track: "minmax(170px, 1.4fr)",
    by: (r) => r.accounts.join(" "),
    show: (r) => <Who row={r} />,
  },
  {
    head: "may",
    track: "minmax(180px, 1.5fr)",
    by: (r) => r.may,
    show: (r) => <span style={{ whiteSpace: "normal" }}>{r.may}</span>,
  },
  {
    head: "by",
    track: "minmax(180px, 1.5fr)",
    by: (r) => r.by.join(" "),
    show: (r) => (
      <div className="mono quiet" style={{ whiteSpace: "normal", fontSize: 12 }}>
        {r.by.map((line) => (
          <div key={line}>{line}</div>
        ))}
      </div>
    ),
  },
];

const SHOWN = 12;

function Who({ row }: { row: ReportRow }) {
  return (
    <div style={{ whiteSpace: "normal" }}>
      {row.accounts.slice(0, SHOWN).map((name, i) => (
        <span key={name}>
          {i > 0 && ", "}
          <AccountLink name={name} />
          {row.new.includes(name) && <span className="state-own"> (new)</span>}
        </span>
      ))}
      {row.accounts.length > SHOWN && <span className="quiet"> and {row.accounts.length - SHOWN} more</span>}
    </div>
  );
}

/** One report: its rows, its documents, and taking it back. */
export function ReportPage() {
  const number = Number(useParams().number);
  const query = useQuery({
    queryKey: ["reports", number],
    queryFn: () => answer(GET("/api/v1/reports/{number}", { params: { path: { number } } })),
  });
  return (
    <Page
      title={query.data?.title ?? `Report ${number}`}
      beside={
        <Group gap={6}>
          {DOCUMENTS.map(([kind, called]) => (
            <Button
              key={kind}
              size="xs"
              variant="default"
              component="a"
              href={`/api/v1/reports/${number}/document?kind=${kind}`}
              download
              leftSection={<IconReportAnalytics size={14} stroke={1.6} />}
            >
              {called}
            </Button>
          ))}
        </Group>
      }
    >
      <Loaded query={query}>{(report) => <OneReport report={report} />}</Loaded>
    </Page>
  );
}

function OneReport({ report }: { report: Report }) {
  const columns = report.signed ? [...ROWS, decisionOf(report)] : ROWS;
  return (
    <>
      <Text fz="sm" className="quiet">
        Report {report.number}, of revision {report.revision}, made {day(report.made)} by {report.made_by}
        {report.since?.signed &&
          `; compared with report ${report.since.number}, which ${report.since.signed.by} signed on ${day(report.since.signed.at)}`}
        .{report.notes.map((note) => ` ${note}`)}
      </Text>
      {report.signed ? (
        <IsSigned number={report.number} signed={report.signed} />
      ) : (
        <Group gap={12} align="stretch">
          <SendReport report={report} />
          <SignReport number={report.number} />
        </Group>
      )}
      <Table
        label="Rows"
        rows={report.rows}
        columns={columns}
        keyOf={(r) => String(r.number)}
        one="row"
        none="Nobody can get at it."
        tall
      />
      <Lines title="Removed since the last signed report" lines={report.gone} />
      <Lines title="To be removed by the last signed report, but still present" lines={report.not_removed} />
    </>
  );
}

function Lines({ title, lines }: { title: string; lines: string[] }) {
  if (lines.length === 0) return null;
  return (
    <section aria-label={title}>
      <Text fw={650} fz="sm">
        {title}
      </Text>
      {lines.map((line) => (
        <Text key={line} fz="sm">
          {line}
        </Text>
      ))}
    </section>
  );
}

function decisionOf(report: Report): Column<ReportRow> {
  const said = new Map(report.decided.map((d) => [d.row, d]));
  return {
    head: "decision",
    track: "minmax(130px, 1fr)",
    by: (r) => said.get(r.number)?.decision,
    show: (r) => {
      const decided = said.get(r.number);
      if (!decided) return r.to_decide ? <span className="quiet">none</span> : "";
      return (
        <div style={{ whiteSpace: "normal" }}>
          <span className={decided.decision === "keep" ? "good" : "bad"}>
            {decided.decision === "keep" ? "keep" : "remove"}
          </span>
          {decided.remark && <div className="quiet">{decided.remark}</div>}
        </div>
      );
    },
  };
}

function IsSigned({ number, signed }: { number: number; signed: NonNullable<Report["signed"]> }) {
  return (
    <Text fz="sm">
      <span className="good">● signed</span> by {signed.by}
      {signed.sent_by && `, through a link that ${signed.sent_by} sent,`} on {day(signed.at)}: {signed.kept} kept,{" "}
      {signed.taken_away.length} to remove
      {signed.undecided.length > 0 && `, ${signed.undecided.length} undecided (rows ${signed.undecided.join(", ")})`}
      {signed.draft && (
        <>
          {"; "}
          <Anchor component={Link} to={`/drafts/${encodeURIComponent(signed.draft)}`} fz="sm">
            what is to go is in the draft {signed.draft}
          </Anchor>
        </>
      )}
      {"; "}
      <Anchor href={`/api/v1/reports/${number}/returned`} download fz="sm">
        the document that came back
      </Anchor>
    </Text>
  );
}

/** Mails a link through which somebody without an account here signs, once. */
function SendReport({ report }: { report: Report }) {
  const [to, setTo] = useState("");
  const client = useQueryClient();
  const send = useMutation({
    mutationFn: () =>
      answer(
        POST("/api/v1/reports/{number}/links", {
          params: { path: { number: report.number } },
          body: { to: to.trim(), days: 14 },
        }),
      ),
    onSuccess: async () => {
      setTo("");
      await client.invalidateQueries({ queryKey: ["reports", report.number] });
    },
  });
  return (
    <form
      className="sheet"
      style={{ padding: "10px 14px" }}
      aria-label="Send the report"
      onSubmit={(event) => {
        event.preventDefault();
        if (to.trim()) send.mutate();
      }}
    >
      <Group gap={10} align="flex-end">
        <TextInput
          size="xs"
          w={230}
          type="email"
          label="Send a link to sign"
          placeholder="edda@tidewrack.example"
          value={to}
          onChange={(event) => setTo(event.currentTarget.value)}
        />
        <Button size="xs" type="submit" variant="default" disabled={!to.trim()} loading={send.isPending}>
          Send link
        </Button>
      </Group>
      {send.error && (
        <div role="alert" className="bad" style={{ fontSize: 13, marginTop: 6, maxWidth: 340 }}>
          {send.error.message}
        </div>
      )}
      {report.links.map((link) => (
        <div key={link.sent} className="quiet" style={{ fontSize: 13, marginTop: 4 }}>
          sent to {link.address}; expires on {day(link.expires)}
        </div>
      ))}
    </form>
  );
}

/** The document that comes back: decisions are read from it, and whoever is signed in signs. */
function SignReport({ number }: { number: number }) {
  const [file, setFile] = useState<File | null>(null);
  const client = useQueryClient();
  const sign = useMutation({
    mutationFn: () =>
      answer(
        POST("/api/v1/reports/{number}/signed", {
          params: { path: { number } },
          body: file as never,
          bodySerializer: (body: unknown) => body as Blob,
          headers: { "Content-Type": "application/octet-stream" },
        }),
      ),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <form
      className="sheet"
      style={{ padding: "10px 14px" }}
      aria-label="Sign the report"
      onSubmit={(event) => {
        event.preventDefault();
        if (file) sign.mutate();
      }}
    >
      <Group gap={10} align="flex-end">
        <FileInput
          size="xs"
          w={300}
          label="The document that came back"
          placeholder="the PDF or workbook, or what the page saved"
          accept=".pdf,.xlsx,.json"
          value={file}
          onChange={setFile}
        />
        <Button size="xs" type="submit" disabled={!file} loading={sign.isPending}>
          Sign report
        </Button>
        <Text fz="xs" className="quiet" pb={7}>
          You sign it under your own name.
        </Text>
      </Group>
      {sign.error && (
        <div role="alert" className="bad" style={{ fontSize: 13, marginTop: 6 }}>
          {sign.error.message}
        </div>
      )}
      {sign.data?.left.map((line) => (
        <div key={line} className="state-own" style={{ fontSize: 13 }}>
          ▲ {line}
        </div>
      ))}
    </form>
  );
}
