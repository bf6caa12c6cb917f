import { Button, Group, Stack, Text, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { answer, GET, type Pattern, POST, Problem } from "../api";
import { Consequences, ItemDifference } from "../parts/Consequences";
import { Code } from "../parts/Line";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { writeChanges } from "../parts/write";
import { useDraft, usePast } from "../past";

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
  return <Loaded query={query}>{(pattern) => <Form pattern={pattern} />}</Loaded>;
}

function Form({ pattern }: { pattern: Pattern }) {
  const [answers, setAnswers] = useState<Record<string, string>>({});
  const client = useQueryClient();
  const navigate = useNavigate();
  const draft = useDraft();
  const past = usePast() !== null;
  const look = useMutation({
    mutationFn: async (given: Record<string, string>) => {
      const made = await answer(
        POST("/api/v1/patterns/{name}/changes", { params: { path: { name: pattern.name } }, body: { answers: given } }),
      );
      const preview = await answer(POST("/api/v1/changes/preview", { body: { changes: made.changes } }));
      return { made, preview };
    },
  });
  const take = useMutation({
    mutationFn: () => writeChanges(look.data?.made.changes ?? [], draft, look.data?.made.revision),
    onSuccess: async () => {
      await client.invalidateQueries();
      navigate(draft === null ? "/journal" : `/drafts/${encodeURIComponent(draft)}`);
    },
  });
  const wrong = look.error instanceof Problem ? look.error.places : [];
  const ready = pattern.asks.every((a) => a.optional || a.default || answers[a.key]?.trim());
  const submit = (event: FormEvent) => {
    event.preventDefault();
    take.reset();
    look.mutate(Object.fromEntries(Object.entries(answers).filter(([, text]) => text.trim())));
  };
  const set = (key: string, text: string) => {
    setAnswers({ ...answers, [key]: text });
    look.reset();
  };
  const problem =
    take.error ?? (look.error && !wrong.some((w) => pattern.asks.some((a) => a.key === w.where)) ? look.error : null);
  return (
    <Page title={pattern.name}>
      <Text fz="sm" className="quiet">
        {pattern.about}
      </Text>
      <div
        style={{ overflow: "auto", display: "grid", gridTemplateColumns: "minmax(0, 380px) minmax(0, 1fr)", gap: 28 }}
      >
        <form onSubmit={submit} aria-label={pattern.name}>
          <Stack gap={10}>
            {pattern.asks.map((a) => (
              <TextInput
                key={a.key}
                size="xs"
                label={a.asks}
                placeholder={a.default ?? (a.optional ? "may be left out" : a.example)}
                value={answers[a.key] ?? ""}
                error={wrong.find((w) => w.where === a.key)?.message}
                onChange={(e) => set(a.key, e.currentTarget.value)}
              />
            ))}
            <Group>
              <Button
                size="xs"
                type="submit"
                variant={look.data ? "default" : "filled"}
                disabled={!ready}
                loading={look.isPending}
              >
                Show what follows
              </Button>
            </Group>
          </Stack>
        </form>
        <section
          aria-label="What follows"
          style={{ borderLeft: "1px solid var(--edge)", paddingLeft: 24, fontSize: 13 }}
        >
          {problem && (
            <div role="alert" className="bad">
              {problem.message}
            </div>
          )}
          {look.data ? (
            <>
              {look.data.preview.items.map((item) => (
                <ItemDifference key={item.section + item.name} item={item} />
              ))}
              {look.data.preview.item_count === 0 ? (
                <Text fz="sm" className="quiet">
                  Nothing is to be done: it is so already.
                </Text>
              ) : (
                <Consequences preview={look.data.preview} />
              )}
              {!past && look.data.preview.item_count > 0 && (
                <Button size="xs" mt={12} loading={take.isPending} onClick={() => take.mutate()}>
                  {draft === null ? "Do it" : `Put it in ${draft}`}
                </Button>
              )}
            </>
          ) : (
            <Sample pattern={pattern} />
          )}
        </section>
      </div>
    </Page>
  );
}

/** Before anything is answered: what holds with some sample answers. */
function Sample({ pattern }: { pattern: Pattern }) {
  if (!pattern.can.length) return null;
  const given = Object.entries(pattern.given)
    .map(([key, value]) => `${pattern.asks.find((a) => a.key === key)?.asks ?? key}: ${value}`)
    .join("; ");
  return (
    <>
      <Text fz="xs" className="quiet" mb={6}>
        For example, with {given}
      </Text>
      {(
        [
          ["can", "●", "good", pattern.can],
          ["cannot", "✕", "bad", pattern.cannot],
        ] as const
      ).map(([word, mark, style, lines]) =>
        lines.map((line) => (
          <div key={word + line}>
            <span className={style}>
              {mark} {word}
            </span>{" "}
            <Code text={`\`${line}\``} />
          </div>
        )),
      )}
    </>
  );
}
