import { Button, FileInput, Group, Text, TextInput } from "@mantine/core";
import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, type Comparison, GET, POST, Problem, type State } from "../api";
import { Legend, Mark, MEANINGS } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Empty, Failed, Loaded } from "../parts/states";

/** So many differences are fetched at once, each with two reasons. */
const AT_ONCE = 200;
const COLUMNS = "minmax(120px, 150px) minmax(0, 1fr) minmax(0, 1fr)";

/** Two accounts side by side: where they differ, and why on each side. */
export function ComparePage() {
  const [search, setSearch] = useSearchParams();
  const [one, setOne] = useState(search.get("one") ?? "");
  const [other, setOther] = useState(search.get("other") ?? "");
  const [under, setUnder] = useState(search.get("under") ?? "");
  const [file, setFile] = useState<File | null>(null);
  const asked = { one: search.get("one") ?? "", other: search.get("other") ?? "", under: search.get("under") ?? "/" };
  const query = useInfiniteQuery({
    queryKey: ["compare", asked],
    queryFn: ({ pageParam }) =>
      answer(
        GET("/api/v1/comparisons", {
          params: { query: { ...asked, folded: true, offset: pageParam, limit: AT_ONCE } },
        }),
      ),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => {
      const shown = pages.flatMap((p) => p.differences).length;
      return last.differences.length && shown < last.total ? shown : undefined;
    },
    enabled: Boolean(asked.one && asked.other),
  });
  const [first] = query.data?.pages ?? [];
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
      setSearch({ one: one.trim(), other: other.trim(), ...(under.trim() ? { under: under.trim() } : {}) });
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
          <TextInput
            label="Under"
            placeholder="/"
            w={150}
            value={file ? "" : under}
            disabled={file !== null}
            onChange={(e) => setUnder(e.currentTarget.value)}
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
        <Loaded query={query}>
          {({ pages }) =>
            first && (
              <Differences
                found={{ ...first, differences: pages.flatMap((p) => p.differences) }}
                more={query.hasNextPage ? () => query.fetchNextPage() : undefined}
                loading={query.isFetchingNextPage}
              />
            )
          }
        </Loaded>
      ) : (
        <Empty>Name two accounts, or one and a model file, to see only where they differ.</Empty>
      )}
    </Page>
  );
}

interface Shown {
  found: Comparison;
  /** Fetches those that come next. */
  more?: () => void;
  loading?: boolean;
}

function Differences({ found, more, loading }: Shown) {
  if (!found.total)
    return (
      <Empty>
        {found.one} and {found.other} can do the same everywhere.
      </Empty>
    );
  const places = new Map<string, Comparison["differences"]>();
  for (const d of found.differences) places.set(d.location, [...(places.get(d.location) ?? []), d]);
  const left = found.total - found.differences.length;
  return (
    <>
      {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls has to be reached by keys */}
      <div className="sheet" style={{ overflow: "auto" }} tabIndex={0} role="region" aria-label="Where they differ">
        <div className="row head" style={{ gridTemplateColumns: COLUMNS, height: 32 }}>
          <span />
          <b>{found.one}</b>
          <b>{found.other}</b>
        </div>
        {[...places].map(([location, differences]) => (
          <div key={location}>
            <div className="row place">
              <b className="mono wraps">{location}</b>
            </div>
            {differences.map((d) => (
              <div key={d.right} className="row difference" style={{ gridTemplateColumns: COLUMNS }}>
                <span>
                  {d.right}
                  {d.below > 0 && (
                    <Text fz="xs" className="quiet">
                      and in {d.below.toLocaleString("en")} below
                    </Text>
                  )}
                </span>
                <Side state={d.one} why={d.why_one} />
                <Side state={d.other} why={d.why_other} />
              </div>
            ))}
          </div>
        ))}
        {more && (
          <Button variant="subtle" size="xs" m={10} loading={loading} onClick={more}>
            Show {Math.min(left, AT_ONCE).toLocaleString("en")} more of {left.toLocaleString("en")}
          </Button>
        )}
      </div>
      <Legend>
        <span>
          {found.total.toLocaleString("en")} {found.total === 1 ? "difference" : "differences"}
          {left > 0 && `, the first ${found.differences.length.toLocaleString("en")} shown`}
        </span>
      </Legend>
    </>
  );
}

function Side({ state, why }: { state: State | null; why: string }) {
  return (
    <span className="wraps">
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
