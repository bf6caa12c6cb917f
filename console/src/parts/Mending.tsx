import { Button, Group, Text, TextInput } from "@mantine/core";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, type Change, type MendQuestion, type Mends, POST } from "../api";
import { useDraft, usePast } from "../past";
import { Consequences } from "./Consequences";
import { Code } from "./Line";
import { Loaded } from "./states";
import { useMayChange } from "./who";
import { writeChanges } from "./write";

/** Of the wider ways with the same effect so many are told. */
const ALIKE = 2;

/** The ways to mend a refusal, or to stop what is allowed; asked for where somebody wants to know. */
export function Mending({ question, stop }: { question: MendQuestion; stop: boolean }) {
  const [asked, setAsked] = useState(false);
  const [lines, setLines] = useState<Lines>({ until: "", note: "" });
  const given = { until: lines.until || null, note: lines.note.trim() || null };
  const query = useQuery({
    queryKey: ["mends", question, stop, given],
    queryFn: () => answer(POST("/api/v1/mends", { body: { ...question, stop, most: 5, ...given } })),
    enabled: asked,
    retry: false,
    placeholderData: keepPreviousData,
  });
  if (usePast() !== null) return null;
  if (!asked) {
    return (
      <Button size="compact-xs" variant="subtle" mt={8} mr={8} onClick={() => setAsked(true)}>
        {stop ? "How could it be stopped?" : "What would let it pass?"}
      </Button>
    );
  }
  return (
    <section aria-label={stop ? "Ways to stop it" : "Ways to mend it"} style={{ marginTop: 10 }}>
      <Text fz="xs" fw={650}>
        {stop ? "What would stop it" : "What would let it pass"}
      </Text>
      <LinesGiven lines={lines} onChange={setLines} />
      <Loaded query={query}>{(found) => <Ways found={found} until={given.until} />}</Loaded>
    </section>
  );
}

/** What each line that a fix adds is given: its last day, and why it is there. */
type Lines = { until: string; note: string };

function LinesGiven({ lines, onChange }: { lines: Lines; onChange: (lines: Lines) => void }) {
  return (
    <Group gap="xs" my={6}>
      <TextInput
        size="xs"
        type="date"
        label="Until"
        description="The last day of each line that is added"
        value={lines.until}
        onChange={(event) => onChange({ ...lines, until: event.currentTarget.value })}
      />
      <TextInput
        size="xs"
        label="Note"
        description="Why the lines are there"
        value={lines.note}
        onChange={(event) => onChange({ ...lines, note: event.currentTarget.value })}
      />
    </Group>
  );
}

/** Everything that one fix would do, asked for where the lines under it are not enough. */
function WholePreview({ changes }: { changes: Change[] }) {
  const draft = useDraft();
  const query = useQuery({
    queryKey: ["preview", changes, draft],
    queryFn: () => answer(POST("/api/v1/changes/preview", { body: { changes } })),
    retry: false,
  });
  return <Loaded query={query}>{(found) => <Consequences preview={found} />}</Loaded>;
}

function Ways({ found, until }: { found: Mends; until: string | null }) {
  const client = useQueryClient();
  const draft = useDraft();
  const may = useMayChange();
  const [shown, setShown] = useState<number | null>(null);
  const take = useMutation({
    mutationFn: (way: Mends["mends"][number]) => writeChanges(way.changes, draft, found.revision),
    onSuccess: () => client.invalidateQueries(),
  });
  const inArea = found.only_area ? " in your area" : "";
  return (
    <div style={{ fontSize: 13.5 }}>
      {!found.mends.length && (
        <Text fz="sm">
          {found.on_disk.length ? "The model allows it; the disk does not." : "No change of the model would do it."}
        </Text>
      )}
      {found.mends.map((way) => (
        <div key={way.number} style={{ padding: "8px 0", borderBottom: "1px solid var(--edge)" }}>
          <Group justify="space-between" wrap="nowrap" align="flex-start">
            <div>
              {way.says.map((line) => (
                <div key={line}>
                  <Code text={line} />
                </div>
              ))}
              {way.alike.slice(0, ALIKE).map((other) => {
                const differs = other.says.filter((line) => !way.says.includes(line)).join("; ");
                return (
                  <div key={differs} className="quiet">
                    or <Code text={differs} />
                  </div>
                );
              })}
              {way.alike.length > ALIKE && (
                <div className="quiet">or {way.alike.length - ALIKE} more that are wider</div>
              )}
              {way.breaks.map((broken) => (
                <div key={broken} className="bad">
                  ✕ breaks <Code text={broken} />
                </div>
              ))}
              <div className={way.other_count ? "state-own" : "quiet"}>
                {way.other_count
                  ? `Affects ${way.other_count} other ${way.other_count === 1 ? "account" : "accounts"}${inArea}`
                  : `No effect on others${inArea}`}
              </div>
              {way.follows.map((said) => (
                <div key={said} className="quiet">
                  → <Code text={said} />
                </div>
              ))}
              {until !== null && !way.ends && (
                <div className="state-own">Not all of this ends on {until}: only lines that allow have a last day.</div>
              )}
              <Button
                size="compact-xs"
                variant="subtle"
                aria-expanded={shown === way.number}
                onClick={() => setShown(shown === way.number ? null : way.number)}
              >
                {shown === way.number ? "Hide all effects" : "Show all effects"}
              </Button>
              {shown === way.number && <WholePreview changes={way.changes} />}
            </div>
            {may && (
              <Button
                size="compact-xs"
                variant="default"
                loading={take.isPending && take.variables?.number === way.number}
                onClick={() => take.mutate(way)}
              >
                {draft === null ? "Do it" : `Put in ${draft}`}
              </Button>
            )}
          </Group>
        </div>
      ))}
      {take.error && (
        <div role="alert" className="bad">
          {take.error.message}
        </div>
      )}
      {found.on_disk.length > 0 && (
        <section aria-label="On the disk" style={{ marginTop: 8 }}>
          <b>{found.mends.length ? "On the disk, as well" : "On the disk"}</b>
          {found.on_disk.map((line) => (
            <div key={line}>{line}</div>
          ))}
        </section>
      )}
      {found.left_out.map((said) => (
        <Text fz="xs" className="quiet" key={said}>
          {said}
        </Text>
      ))}
    </div>
  );
}
