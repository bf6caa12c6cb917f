import { Button, Group, Text } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, type MendQuestion, type Mends, POST } from "../api";
import { useDraft, usePast } from "../past";
import { Code } from "./Line";
import { Loaded } from "./states";
import { writeChanges } from "./write";

/** Of the wider ways with the same effect so many are told. */
const ALIKE = 2;

/** The ways to mend a refusal, or to stop what is allowed; asked for where somebody wants to know. */
export function Mending({ question, stop }: { question: MendQuestion; stop: boolean }) {
  const [asked, setAsked] = useState(false);
  const query = useQuery({
    queryKey: ["mends", question, stop],
    queryFn: () => answer(POST("/api/v1/mends", { body: { ...question, stop, most: 5 } })),
    enabled: asked,
    retry: false,
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
      <Loaded query={query}>{(found) => <Ways found={found} />}</Loaded>
    </section>
  );
}

function Ways({ found }: { found: Mends }) {
  const client = useQueryClient();
  const draft = useDraft();
  const take = useMutation({
    mutationFn: (way: Mends["mends"][number]) => writeChanges(way.changes, draft, found.revision),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <div style={{ fontSize: 13.5 }}>
      {!found.mends.length && <Text fz="sm">No change of the model would do it.</Text>}
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
                  ? `What else follows touches ${way.other_count} other ${way.other_count === 1 ? "account" : "accounts"}`
                  : "Nobody else is touched"}
              </div>
              {way.follows.map((said) => (
                <div key={said} className="quiet">
                  → <Code text={said} />
                </div>
              ))}
            </div>
            <Button
              size="compact-xs"
              variant="default"
              loading={take.isPending && take.variables?.number === way.number}
              onClick={() => take.mutate(way)}
            >
              {draft === null ? "Do it" : `Put in ${draft}`}
            </Button>
          </Group>
        </div>
      ))}
      {take.error && (
        <div role="alert" className="bad">
          {take.error.message}
        </div>
      )}
      {found.left_out.map((said) => (
        <Text fz="xs" className="quiet" key={said}>
          {said}
        </Text>
      ))}
    </div>
  );
}
