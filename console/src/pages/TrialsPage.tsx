import { Group, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { answer, GET, type TrialLine } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { Code, Note } from "../parts/Line";
import { AccountLink } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";

const text = (trial: TrialLine, key: string) => (typeof trial.item[key] === "string" ? String(trial.item[key]) : "");

const COLUMNS: Column<TrialLine>[] = [
  {
    head: "trial",
    track: "minmax(180px, 1fr)",
    by: (t) => t.name,
    show: (t) => (
      <div style={{ whiteSpace: "normal" }}>
        <b>{t.name}</b>
        <div>
          <Note note={text(t, "note")} />
        </div>
      </div>
    ),
  },
  { head: "as", track: "140px", by: (t) => text(t, "as"), show: (t) => <AccountLink name={text(t, "as")} /> },
  { head: "at", track: "110px", by: (t) => text(t, "at"), show: (t) => <span className="quiet">{text(t, "at")}</span> },
  {
    head: "steps",
    track: "minmax(320px, 2.4fr)",
    by: (t) => (t.as_expected ? "as expected" : "otherwise"),
    show: (t) => <Steps trial={t} />,
  },
  { head: "", track: "78px", show: (t) => <EditButton kind="trial" name={t.name} /> },
];

/** What is not as expected in full; all else counted, and shown where it is asked for. */
function Steps({ trial }: { trial: TrialLine }) {
  const [open, setOpen] = useState(false);
  const wrong = trial.steps.filter((step) => !step.as_expected);
  const steps = trial.steps.length === 1 ? "1 step" : `${trial.steps.length} steps`;
  return (
    <div style={{ whiteSpace: "normal", fontSize: 13 }}>
      <details onToggle={(event) => setOpen(event.currentTarget.open)}>
        <summary className={trial.as_expected ? "good" : "bad"} style={{ cursor: "pointer" }}>
          {trial.as_expected
            ? `● ${steps}, ${trial.steps.length === 1 ? "" : "all "}as expected`
            : `✕ ${wrong.length} of ${steps} not as expected`}
        </summary>
        {trial.steps.map((step, i) => (
          <div key={i}>
            <span className={step.as_expected ? "good" : "bad"}>{step.as_expected ? "●" : "✕"}</span>{" "}
            <span className="mono">{step.says}</span>{" "}
            <span className="quiet">{step.allowed ? "yes" : `no, by ${step.gate}`}</span>
            {!step.as_expected && <Otherwise step={step} />}
          </div>
        ))}
      </details>
      {!open &&
        wrong.map((step) => (
          <div key={step.says}>
            <span className="mono">{step.says}</span>
            <Otherwise step={step} />
          </div>
        ))}
    </div>
  );
}

function Otherwise({ step }: { step: TrialLine["steps"][number] }) {
  return (
    <>
      {" "}
      <span className="bad">expected {step.expected}:</span>{" "}
      <span className="quiet">
        <Code text={step.text} />
      </span>
    </>
  );
}

/** The trials that are kept, each done on the model in force. */
export function TrialsPage() {
  const [matching, filter] = useFilter("Filter trials", "Part of a name, an account");
  const query = useQuery({ queryKey: ["trials"], queryFn: () => answer(GET("/api/v1/trials")) });
  return (
    <Page
      title="Trials"
      beside={
        <Group gap={10}>
          <AddButton kind="trial" />
          {filter}
        </Group>
      }
    >
      <Text fz="sm" className="quiet">
        What would be done by hand after a change, done again at each preview and draft: these tell which trials a
        change turns.
      </Text>
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Trials"
            rows={data.trials}
            columns={COLUMNS}
            keyOf={(t) => t.name}
            matching={matching}
            tall
            one="trial"
            none="No trial is kept yet. One could be, as one of your accounts: upload /inbox/a.xyz: yes. Or keep a file of them with drawknife trial keep FILE."
          />
        )}
      </Loaded>
    </Page>
  );
}
