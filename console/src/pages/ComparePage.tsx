import { Button, FileInput, Group, Text, TextInput } from "@mantine/core";
import { useMutation, useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, type Comparison, GET, POST, Problem, type State } from "../api";
import { Legend, Mark, MEANINGS } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Empty, Failed, Loaded } from "../parts/states";

const COLUMNS = "minmax(120px, 150px) minmax(0, 1fr) minmax(0, 1fr)";

/** Two accounts side by side: where they differ, and why on each side. */
export function ComparePage() {
  const [search, setSearch] = useSearchParams();
  const [one, setOne] = useState(search.get("one") ?? "");
  const [other, setOther] = useState(search.get("other") ?? "");
  const [file, setFile] = useState<File | null>(null);
  const asked = { one: search.get("one"), other: search.get("other") };
  const query = useQuery({
    queryKey: ["compare", asked],
    queryFn: () =>
      answer(
        GET("/api/v1/comparisons", {
          params: { query: { one: asked.one ?? "", other: asked.other ?? "", limit: 1000 } },
        }),
      ),
    enabled: Boolean(asked.one && asked.other),
  });
  const withFile = useMutation({
    mutationFn: async (given: { account: string; file: File }) => {
      const model = await given.file.text().catch(() => {
        throw new Problem(
          400,
          "It has changed since it was chosen, or cannot be read. Choose it again.",
          "The file cannot be read",
        );
      });
      const found = await answer(POST("/api/v1/comparisons", { body: { account: given.account, model } }));
      return { ...found, one: `${found.one} in force`, other: `${found.other} in ${given.file.name}` };
    },
    // A file that is mended has to be chosen again: what the browser holds is the file as it was.
    onError: () => setFile(null),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    if (file) withFile.mutate({ account: one.trim(), file });
    else {
      withFile.reset();
      setSearch({ one: one.trim(), other: other.trim() });
    }
  };
  return (
    <Page title="Compare">
      <form onSubmit={submit}>
        <Group align="flex-end">
          <TextInput label="One account" value={one} onChange={(e) => setOne(e.currentTarget.value)} autoFocus />
          <TextInput
            label="Another"
            value={file ? "" : other}
            disabled={file !== null}
            onChange={(e) => setOther(e.currentTarget.value)}
          />
          <FileInput
            label="or the same in a model file"
            placeholder="choose a file"
            value={file}
            onChange={setFile}
            clearable
            w={220}
          />
          <Button type="submit" loading={withFile.isPending} disabled={!one.trim() || !(file || other.trim())}>
            Compare
          </Button>
        </Group>
      </form>
      {withFile.error ? (
        <Failed error={withFile.error} />
      ) : withFile.data ? (
        <Differences found={withFile.data} />
      ) : asked.one && asked.other ? (
        <Loaded query={query}>{(found) => <Differences found={found} />}</Loaded>
      ) : (
        <Empty>Name two accounts, or one and a model file, to see only where they differ.</Empty>
      )}
    </Page>
  );
}

function Differences({ found }: { found: Comparison }) {
  if (!found.total)
    return (
      <Empty>
        {found.one} and {found.other} can do the same everywhere.
      </Empty>
    );
  const places = [...new Set(found.differences.map((d) => d.location))];
  return (
    <>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls has to be reached by keys */}
      <div className="sheet" style={{ overflow: "auto" }} tabIndex={0} role="region" aria-label="Where they differ">
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span />
          <b>{found.one}</b>
          <b>{found.other}</b>
        </div>
        {places.map((location) => (
          <div key={location}>
            <div
              className="row"
              style={{
                gridTemplateColumns: "1fr",
                height: 30,
                background: "var(--stripe)",
                cursor: "default",
              }}
            >
              <b className="mono">{location}</b>
            </div>
            {found.differences
              .filter((d) => d.location === location)
              .map((d) => (
                <div
                  key={d.right}
                  className="row"
                  style={{
                    gridTemplateColumns: COLUMNS,
                    padding: "7px 14px",
                    gap: 12,
                    alignItems: "start",
                    cursor: "default",
                  }}
                >
                  <span>{d.right}</span>
                  <Side state={d.one} why={d.why_one} />
                  <Side state={d.other} why={d.why_other} />
                </div>
              ))}
          </div>
        ))}
      </div>
      <Legend>
        <span>
          {found.total} differences
          {found.total > found.differences.length && `, the first ${found.differences.length} shown`}
        </span>
      </Legend>
    </>
  );
}

function Side({ state, why }: { state: State | null; why: string }) {
  return (
    <span style={{ whiteSpace: "normal" }}>
      {state ? (
        <>
          <Mark state={state} /> {MEANINGS[state]}
        </>
      ) : (
        <span className="quiet">no such location</span>
      )}
      <Text fz="xs" className="quiet">
        {why}
      </Text>
    </span>
  );
}
