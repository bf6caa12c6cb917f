import { Button, Group, Stack, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import type { FormEvent } from "react";
import { answer, type Pattern, POST, Problem } from "../api";
import { useDraft, usePast } from "../past";
import { Consequences, ItemDifference } from "./Consequences";
import { Code } from "./Line";
import { useMayChange } from "./who";
import { writeChanges } from "./write";

interface FormProps {
  pattern: Pattern;
  /** Only one of its steps, from 1 on. */
  step?: number;
  /** What is answered so far, by key. */
  answers: Record<string, string>;
  setAnswers: (answers: Record<string, string>) => void;
  done: (draft: string | null) => void;
}

/** The questions of a pattern or of one of its steps, what the answers would change, and what follows from that. */
export function PatternForm({ pattern, step, answers, setAnswers, done }: FormProps) {
  const client = useQueryClient();
  const draft = useDraft();
  const past = usePast() !== null;
  const may = useMayChange();
  const look = useMutation({
    mutationFn: async (given: Record<string, string>) => {
      const made = await answer(
        POST("/api/v1/patterns/{name}/changes", {
          params: { path: { name: pattern.name }, query: step ? { step } : {} },
          body: { answers: given },
        }),
      );
      const preview = await answer(POST("/api/v1/changes/preview", { body: { changes: made.changes } }));
      return { made, preview };
    },
  });
  const take = useMutation({
    mutationFn: () => writeChanges(look.data?.made.changes ?? [], draft, look.data?.made.revision),
    onSuccess: async () => {
      await client.invalidateQueries();
      done(draft);
    },
  });
  const keys = step ? pattern.steps[step - 1]?.asks : undefined;
  const asks = pattern.asks.filter((a) => !keys || keys.includes(a.key));
  const wrong = look.error instanceof Problem ? look.error.places : [];
  /** A default with the answers that it names, as far as they are there. */
  const filled = (text: string | null): string | null =>
    text?.replace(/\$(\w+)/g, (all, key) => answers[key] || pattern.asks.find((a) => a.key === key)?.default || all) ??
    null;
  const ready = asks.every((a) => a.optional || a.default || answers[a.key]?.trim());
  const submit = (event: FormEvent) => {
    event.preventDefault();
    take.reset();
    const given = Object.entries(answers).filter(([key, text]) => text.trim() && asks.some((a) => a.key === key));
    look.mutate(Object.fromEntries(given));
  };
  const set = (key: string, text: string) => {
    setAnswers({ ...answers, [key]: text });
    look.reset();
  };
  const problem =
    take.error ?? (look.error && !wrong.some((w) => asks.some((a) => a.key === w.where)) ? look.error : null);
  return (
    <div className="pattern-form">
      <form onSubmit={submit} aria-label={pattern.name}>
        <Stack gap={10}>
          {asks.map((a) => (
            <TextInput
              key={a.key}
              size="xs"
              label={a.asks}
              placeholder={filled(a.default) ?? (a.optional ? "may be left out" : a.example)}
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
      <section aria-label="What follows" style={{ borderLeft: "1px solid var(--edge)", paddingLeft: 24, fontSize: 13 }}>
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
            {!past && may && look.data.preview.item_count > 0 && (
              <Button size="xs" mt={12} loading={take.isPending} onClick={() => take.mutate()}>
                {draft === null ? "Do it" : `Put it in ${draft}`}
              </Button>
            )}
          </>
        ) : (
          !step && <Sample pattern={pattern} />
        )}
      </section>
    </div>
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
