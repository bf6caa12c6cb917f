import { Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import { answer, GET, type Pattern } from "../api";
import { PatternForm } from "../parts/PatternForm";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";

const COLUMNS: Column<Pattern>[] = [
  { head: "pattern", track: "170px", by: (p) => p.name, show: (p) => <b>{p.name}</b> },
  {
    head: "what it sets up",
    track: "minmax(300px, 1fr)",
    by: (p) => p.about,
    show: (p) => <span style={{ whiteSpace: "normal" }}>{p.about}</span>,
  },
];

/** What is set up again and again, each with a few questions. */
export function PatternsPage() {
  const [matching, filter] = useFilter("Filter patterns", "Part of a name, of what it sets up");
  const query = useQuery({ queryKey: ["patterns"], queryFn: () => answer(GET("/api/v1/patterns")) });
  return (
    <Page title="Patterns" beside={filter}>
      <Text fz="sm" className="quiet">
        What is set up again and again: a few answers, a look at what follows, and it is done, or in a draft.
      </Text>
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Patterns"
            rows={data.patterns}
            columns={COLUMNS}
            keyOf={(p) => p.name}
            to={(p) => `/patterns/${encodeURIComponent(p.name)}`}
            matching={matching}
            one="pattern"
            none="There are no patterns."
          />
        )}
      </Loaded>
    </Page>
  );
}

/** One pattern: its questions, what its answers would change, and what follows from that. */
export function PatternPage() {
  const { name = "" } = useParams();
  const query = useQuery({
    queryKey: ["pattern", name],
    queryFn: () => answer(GET("/api/v1/patterns/{name}", { params: { path: { name } } })),
  });
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const navigate = useNavigate();
  return (
    <Page title={name}>
      <Loaded query={query}>
        {(pattern) => (
          <>
            <Text fz="sm" className="quiet">
              {pattern.about}
            </Text>
            <PatternForm
              pattern={pattern}
              answers={answers}
              setAnswers={setAnswers}
              done={(draft) => navigate(draft === null ? "/journal" : `/drafts/${encodeURIComponent(draft)}`)}
            />
          </>
        )}
      </Loaded>
    </Page>
  );
}
