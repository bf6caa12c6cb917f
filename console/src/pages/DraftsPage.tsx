import { Button, Group, Stack, Text, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { answer, DELETE, type Draft, type DraftLine, GET, named, onlyAt, POST } from "../api";
import { Consequences, ItemDifference } from "../parts/Consequences";
import { useOpenDraft } from "../parts/DraftBanner";
import { Code } from "../parts/Line";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table, useFilter } from "../parts/Table";
import { moment } from "../parts/time";
import { useDraft } from "../past";

const COLUMNS: Column<DraftLine>[] = [
  { head: "draft", track: "minmax(160px, 1fr)", by: (d) => d.name, show: (d) => <b>{d.name}</b> },
  { head: "steps", track: "70px", by: (d) => d.steps, show: (d) => d.steps },
  {
    head: "written by",
    track: "minmax(140px, 1fr)",
    by: (d) => d.writers.join(", "),
    show: (d) => d.writers.join(", ") || d.begun_by,
  },
  { head: "begun", track: "150px", by: (d) => d.begun, show: (d) => moment(d.begun) },
  { head: "comments", track: "100px", by: (d) => d.comments, show: (d) => d.comments || "" },
  { head: "about", track: "minmax(160px, 2fr)", by: (d) => d.about, show: (d) => d.about },
];

/** The drafts there are. */
export function DraftsPage() {
  const [matching, filter] = useFilter("Filter drafts", "Part of a name, of what it is about");
  const [name, setName] = useState("");
  const query = useQuery({ queryKey: ["drafts"], queryFn: () => answer(GET("/api/v1/drafts")) });
  const open = useOpenDraft();
  const navigate = useNavigate();
  const begin = useMutation({
    mutationFn: () => answer(POST("/api/v1/drafts", { body: { name: name.trim() } })),
    onSuccess: () => {
      open(name.trim());
      navigate("/");
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (name.trim()) begin.mutate();
  };
  return (
    <Page title="Drafts" beside={filter}>
      <Text fz="sm" className="quiet">
        Changes that are not in force: written in peace, looked at by somebody else, and then applied as one.
      </Text>
      <form onSubmit={submit}>
        <Group gap={8} align="flex-end">
          <TextInput
            size="xs"
            label="A new draft"
            value={name}
            error={begin.error?.message}
            onChange={(e) => setName(e.currentTarget.value)}
          />
          <Button size="xs" type="submit" disabled={!name.trim()} loading={begin.isPending}>
            Begin it
          </Button>
        </Group>
      </form>
      <Loaded query={query}>
        {(data) => (
          <Table
            label="Drafts"
            rows={data.drafts}
            columns={COLUMNS}
            keyOf={(d) => d.name}
            to={(d) => `/drafts/${named(d.name)}`}
            matching={matching}
            one="draft"
            none="There are no drafts. Begin one, and whatever is edited then goes into it."
          />
        )}
      </Loaded>
    </Page>
  );
}

/** One draft: its steps, what was said of it, and what would follow today. */
export function DraftPage() {
  const { name = "" } = useParams();
  const query = useQuery({
    queryKey: ["draft", name],
    queryFn: () => answer(GET("/api/v1/drafts/{name}", { params: { path: { name: name } } })),
  });
  return <Loaded query={query}>{(draft) => <Shown draft={draft} />}</Loaded>;
}

function Shown({ draft }: { draft: Draft }) {
  const name = draft.draft.name;
  const params = { path: { name: name } };
  const client = useQueryClient();
  const navigate = useNavigate();
  const openOne = useDraft();
  const [dropping, setDropping] = useState(false);
  const open = useOpenDraft();
  const again = () => client.invalidateQueries();
  const apply = useMutation({
    mutationFn: () => answer(POST("/api/v1/drafts/{name}/apply", { params, headers: onlyAt(draft.revision) } as never)),
    onSuccess: async () => {
      open(null);
      await again();
      navigate("/journal");
    },
    onError: again,
  });
  const drop = useMutation({
    mutationFn: () => answer(DELETE("/api/v1/drafts/{name}", { params })),
    onSuccess: async () => {
      if (openOne === name) open(null);
      await again();
      navigate("/drafts");
    },
  });
  const leaveOut = useMutation({
    mutationFn: (number: number) =>
      answer(DELETE("/api/v1/drafts/{name}/steps/{number}", { params: { path: { name: name, number } } })),
    onSuccess: again,
  });
  const problem = apply.error ?? drop.error ?? leaveOut.error;
  return (
    <Page
      title={name}
      beside={
        <Group gap={8}>
          {openOne !== name && (
            <Button size="xs" variant="default" onClick={() => open(name)}>
              Open it
            </Button>
          )}
          <Button
            size="xs"
            variant={dropping ? "filled" : "subtle"}
            color="red.8"
            loading={drop.isPending}
            onClick={() => (dropping ? drop.mutate() : setDropping(true))}
            onBlur={() => setDropping(false)}
          >
            {dropping ? "Really drop it" : "Drop it…"}
          </Button>
          <Button
            size="xs"
            disabled={!draft.preview || !draft.steps.length}
            loading={apply.isPending}
            onClick={() => apply.mutate()}
          >
            Apply it
          </Button>
        </Group>
      }
    >
      <Text fz="sm" className="quiet">
        Begun by {draft.draft.begun_by}, {moment(draft.draft.begun)}. {draft.draft.about}
      </Text>
      {problem && (
        <div role="alert" className="bad" style={{ fontSize: 13 }}>
          {problem.message}
        </div>
      )}
      <div style={{ overflow: "auto", display: "grid", gridTemplateColumns: "minmax(0, 1fr) minmax(0, 1fr)", gap: 28 }}>
        <Stack gap={10}>
          <section aria-label="Steps">
            {draft.steps.map((s) => (
              <div key={s.number} style={{ padding: "6px 0", borderBottom: "1px solid var(--edge)", fontSize: 13.5 }}>
                <Group justify="space-between" wrap="nowrap" align="flex-start">
                  <div>
                    <b>{s.number}</b> <Code text={s.says} /> <span className="quiet">{s.who}</span>
                    {s.why && <div className="quiet">{s.why}</div>}
                  </div>
                  <Button
                    size="compact-xs"
                    variant="subtle"
                    color="gray"
                    style={{ flexShrink: 0 }}
                    onClick={() => leaveOut.mutate(s.number)}
                  >
                    Leave out
                  </Button>
                </Group>
                {s.misfit && (
                  <div className="bad">
                    ✕ fits no more: {s.misfit.says}
                    {s.misfit.revision && (
                      <div className="quiet">
                        since revision {s.misfit.revision}, by {s.misfit.who}: {s.misfit.what}
                      </div>
                    )}
                  </div>
                )}
              </div>
            ))}
            {!draft.steps.length && (
              <Text fz="sm" className="quiet">
                Nothing is in it yet. Open it, and edit anything.
              </Text>
            )}
          </section>
          {draft.changed_since.map((said) => (
            <Text fz="sm" key={said} className="state-own">
              Changed since it was written: {said}
            </Text>
          ))}
          <Said draft={draft} />
        </Stack>
        <section aria-label="What would follow" style={{ borderLeft: "1px solid var(--edge)", paddingLeft: 24 }}>
          <Text fw={650} fz="sm" mb={8}>
            What would follow today
          </Text>
          {draft.preview === null || draft.preview === undefined ? (
            <Text fz="sm">It cannot be applied as it is: leave out what fits no more.</Text>
          ) : (
            <div style={{ fontSize: 13 }}>
              {draft.preview.items.map((item) => (
                <ItemDifference key={item.section + item.name} item={item} />
              ))}
              {draft.steps.length > 0 && <Consequences preview={draft.preview} />}
            </div>
          )}
        </section>
      </div>
    </Page>
  );
}

function Said({ draft }: { draft: Draft }) {
  const [says, setSays] = useState("");
  const client = useQueryClient();
  const comment = useMutation({
    mutationFn: () =>
      answer(
        POST("/api/v1/drafts/{name}/comments", {
          params: { path: { name: draft.draft.name } },
          body: { says: says.trim() },
        }),
      ),
    onSuccess: async () => {
      setSays("");
      await client.invalidateQueries({ queryKey: ["draft", draft.draft.name] });
    },
  });
  return (
    <section aria-label="Comments">
      {draft.comments.map((c) => (
        <Text fz="sm" key={c.at + c.says}>
          <b>{c.who}</b> <span className="quiet">{moment(c.at)}</span> {c.says}
        </Text>
      ))}
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (says.trim()) comment.mutate();
        }}
      >
        <Group gap={8} mt={6}>
          <TextInput
            size="xs"
            style={{ flex: 1 }}
            aria-label="Comment"
            placeholder="Say something of it"
            value={says}
            error={comment.error?.message}
            onChange={(e) => setSays(e.currentTarget.value)}
          />
          <Button size="xs" variant="default" type="submit" disabled={!says.trim()}>
            Say it
          </Button>
        </Group>
      </form>
    </section>
  );
}
