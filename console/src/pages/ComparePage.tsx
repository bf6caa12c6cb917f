import { Button, FileInput, Group, Text } from "@mantine/core";
import { useInfiniteQuery, useMutation } from "@tanstack/react-query";
import { type FormEvent, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, type Comparison, GET, POST, Problem, type State } from "../api";
import { Legend, Mark, MEANINGS } from "../parts/marks";
import { LocationPicker, NamePicker } from "../parts/pickers";
import { Page } from "../parts/Shell";
import { Empty, Failed, Loaded } from "../parts/states";
import { type Column, FEW, Table, useFilter } from "../parts/Table";
import { Wrapped } from "../parts/Wrapped";

/** So many differences are fetched at once, each with two reasons. */
const AT_ONCE = 200;

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
          <NamePicker
            names="account"
            label="One account"
            w={170}
            value={one}
            onChange={setOne}
            autoFocus={!asked.one}
            openOnFocus={false}
          />
          <NamePicker
            names="account"
            label="Another"
            w={170}
            value={file ? "" : other}
            disabled={file !== null}
            onChange={setOther}
          />
          <LocationPicker
            label="Under"
            placeholder="/"
            w={190}
            value={file ? "" : under}
            disabled={file !== null}
            onChange={setUnder}
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

type Difference = Comparison["differences"][number];

/** What a side says: all of it is found by. */
const said = (state: State | null, why: string) => `${state ? MEANINGS[state] : "no such location"} ${why}`;

const columns = (found: Comparison): Column<Difference>[] => [
  {
    head: "location",
    track: "minmax(150px, 1fr)",
    by: (d) => d.location,
    show: (d) => (
      <span className="mono wraps">
        <Wrapped text={d.location} />
      </span>
    ),
  },
  {
    head: "right",
    track: "130px",
    by: (d) => d.right,
    show: (d) => (
      <>
        {d.right}
        {d.below > 0 && (
          <Text fz="xs" className="quiet wraps">
            and in {d.below.toLocaleString("en")} below
          </Text>
        )}
      </>
    ),
  },
  {
    head: found.one,
    track: "minmax(180px, 1.7fr)",
    by: (d) => said(d.one, d.why_one),
    show: (d) => <Side state={d.one} why={d.why_one} />,
  },
  {
    head: found.other,
    track: "minmax(180px, 1.7fr)",
    by: (d) => said(d.other, d.why_other),
    show: (d) => <Side state={d.other} why={d.why_other} />,
  },
];

function Differences({ found, more, loading }: Shown) {
  const left = found.total - found.differences.length;
  const [matching, filter] = useFilter(
    "Find a difference",
    left > 0 ? "Find among those shown" : "Part of a location, a right, a reason",
  );
  const heads = useMemo(() => columns(found), [found]);
  if (!found.total)
    return (
      <Empty>
        {found.one} and {found.other} can do the same everywhere.
      </Empty>
    );
  return (
    <>
      <Group gap={14}>
        {found.total > FEW && filter}
        <Text fz="sm" className="quiet">
          {found.total.toLocaleString("en")} {found.total === 1 ? "difference" : "differences"}
          {left > 0 && `, the first ${found.differences.length.toLocaleString("en")} shown`}
        </Text>
        {more && (
          <Button variant="subtle" size="compact-xs" loading={loading} onClick={more}>
            Show {Math.min(left, AT_ONCE).toLocaleString("en")} more
          </Button>
        )}
      </Group>
      <Table
        label="Where they differ"
        rows={found.differences}
        columns={heads}
        keyOf={(d) => `${d.right} ${d.location}`}
        matching={matching}
        one="difference"
        none="Nothing differs."
        tall
      />
      <Legend />
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
        <Wrapped text={why} />
      </Text>
    </span>
  );
}
