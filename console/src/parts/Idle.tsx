import { Button, Group, Text } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, GET, type Idle } from "../api";
import { useDraft, usePast } from "../past";
import { Code } from "./Line";
import { Empty, Loaded } from "./states";
import { useMayChange } from "./who";
import { writeChanges } from "./write";

/** Of the reasons of one part so many are told. */
const REASONS = 3;

/** What has no effect, looked for when somebody wants to know, and taken away one by one or all at once. */
export function IdleParts() {
  const [asked, setAsked] = useState(false);
  const query = useQuery({
    queryKey: ["idle"],
    queryFn: () => answer(GET("/api/v1/idle")),
    enabled: asked,
    retry: false,
  });
  return (
    <section className="sheet" aria-label="What has no effect">
      <div className="row head" style={{ gridTemplateColumns: "1fr auto", height: 36 }}>
        What has no effect
        {!asked && (
          <Button size="compact-xs" variant="subtle" onClick={() => setAsked(true)}>
            Look for it
          </Button>
        )}
      </div>
      {asked ? (
        <Loaded query={query}>{(found) => <Parts found={found} />}</Loaded>
      ) : (
        <Text fz="sm" className="quiet" p="9px 14px">
          Groups, entries, grants, memberships, settings and quotas without which nobody could do more or less.
        </Text>
      )}
    </section>
  );
}

function Parts({ found }: { found: Idle }) {
  const client = useQueryClient();
  const draft = useDraft();
  const may = useMayChange();
  const past = usePast() !== null;
  const take = useMutation({
    mutationFn: (some: Idle["idle"]) =>
      writeChanges(
        some.map((x) => x.change),
        draft,
        found.revision,
      ),
    onSuccess: () => client.invalidateQueries(),
  });
  if (!found.idle.length) {
    return (
      <Empty>
        {found.left_out.length ? "Nothing that was looked at is without effect." : "Everything has an effect."}
      </Empty>
    );
  }
  const word = draft === null ? "Take away" : `Take away in ${draft}`;
  return (
    <div style={{ fontSize: 13.5 }}>
      {found.idle.map((x) => (
        <div
          key={x.number}
          className="row"
          style={{ gridTemplateColumns: "120px 1fr auto", padding: "8px 14px", alignItems: "start", height: "auto" }}
        >
          <span className="quiet">{x.kind}</span>
          <div style={{ whiteSpace: "normal" }}>
            <b>{x.at}</b> <Code text={`\`${x.says}\``} />
            {x.guards && <span className="state-own"> ◆ refuses</span>}
            {x.reasons.slice(0, REASONS).map((reason) => (
              <div key={reason} className="quiet">
                <Code text={reason} />
              </div>
            ))}
            {x.reasons.length > REASONS && <div className="quiet">and {x.reasons.length - REASONS} more</div>}
          </div>
          {!past && may && (
            <Button
              size="compact-xs"
              variant="default"
              aria-label={`${word}: ${x.says} at ${x.at}`}
              loading={take.isPending && take.variables?.length === 1 && take.variables[0]?.number === x.number}
              onClick={() => take.mutate([x])}
            >
              {word}
            </Button>
          )}
        </div>
      ))}
      {take.error && (
        <div role="alert" className="bad" style={{ padding: "4px 14px" }}>
          {take.error.message}
        </div>
      )}
      <Group justify="space-between" p="10px 14px" wrap="nowrap">
        <Text fz="xs" className="quiet">
          {found.idle.some((x) => x.guards) &&
            "◆ may be there against lines to come: take away only what nobody wants. "}
          {found.left_out.join("; ")}
        </Text>
        {!past && may && (
          <Button
            size="compact-sm"
            variant="default"
            style={{ flexShrink: 0 }}
            loading={take.isPending && (take.variables?.length ?? 0) > 1}
            onClick={() => take.mutate(found.idle)}
          >
            {draft === null ? "Take all of it away" : `Take all of it away in ${draft}`}
          </Button>
        )}
      </Group>
    </div>
  );
}
