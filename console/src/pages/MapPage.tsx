import { Autocomplete, Checkbox, Group, Select, Text } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import { answer, GET, type MapWindow, RIGHTS } from "../api";
import { LocationPicker, NamePicker } from "../parts/pickers";
import { Page } from "../parts/Shell";
import { Empty, Loaded } from "../parts/states";
import { foldColumns } from "../parts/tree";
import { ALL, type Choice, Grid, windowOf } from "./MapGrid";

/** Cells of a map that is fetched whole, and so can be folded. */
const FOLDABLE = 200_000;

/** Accounts by places. Only the windows that are looked at are fetched. */
export function MapPage() {
  const [search, setSearch] = useSearchParams();
  // What is typed stands here at once; the address and the map follow when the typing pauses.
  const [choice, setChoice] = useState<Choice>({
    right: search.get("right") ?? "download",
    matching: search.get("matching") ?? "",
    group: search.get("group") ?? "",
    unit: search.get("unit") ?? "",
    store: search.get("store") ?? "",
    under: search.get("under") ?? "/",
    deepest: search.get("deepest") ?? "",
  });
  const [asked] = useDebouncedValue(choice, 250);
  useEffect(() => {
    const said = Object.entries(asked).filter(([, value]) => value);
    setSearch(new URLSearchParams(said), { replace: true });
  }, [asked, setSearch]);
  const [whole, setWhole] = useState(false);
  const stores = useQuery({ queryKey: ["stores"], queryFn: () => answer(GET("/api/v1/stores")) });
  const put = (key: keyof Choice, value: string | null) => setChoice({ ...choice, [key]: value ?? "" });
  const first = useQuery({
    queryKey: ["map", asked, 0, 0],
    queryFn: () => windowOf(asked, 0, 0),
    placeholderData: keepPreviousData,
  });
  const typed = (key: keyof Choice, label: string, placeholder: string, w: number) => ({
    label,
    placeholder,
    w,
    size: "xs",
    value: choice[key],
    onChange: (value: string) => put(key, value),
  });
  return (
    <Page title="Map" wide>
      <Group align="flex-end" gap={10}>
        <Select
          label="Right"
          size="xs"
          w={130}
          data={[...RIGHTS, ALL]}
          value={choice.right || ALL}
          allowDeselect={false}
          onChange={(v) => put("right", v)}
        />
        <NamePicker names="account" {...typed("matching", "Account", "part of a name", 112)} />
        <NamePicker names="group" {...typed("group", "In group", "name", 110)} />
        <NamePicker names="unit" {...typed("unit", "In unit", "path", 100)} />
        <LocationPicker {...typed("under", "Under", "/", 110)} />
        <Autocomplete {...typed("deepest", "Levels below", "all", 92)} data={["1", "2", "3"]} />
        <Select
          label="In store"
          size="xs"
          w={110}
          clearable
          placeholder="any"
          value={choice.store || null}
          data={stores.data?.stores.map((s) => s.name) ?? []}
          onChange={(v) => put("store", v)}
        />
        <Checkbox
          size="xs"
          mb={7}
          label="fold what is the same"
          checked={!whole}
          onChange={(e) => setWhole(!e.currentTarget.checked)}
        />
      </Group>
      <Loaded query={first}>
        {(data) =>
          data.total_accounts && data.total_locations ? (
            <Chosen key={JSON.stringify(asked)} choice={asked} first={data} whole={whole} />
          ) : (
            <Empty>No {data.total_accounts ? "location" : "account"} is left by this choice.</Empty>
          )
        }
      </Loaded>
    </Page>
  );
}

/** The map that was chosen: folded, where it is small enough to be looked at whole. */
function Chosen({ choice, first, whole }: { choice: Choice; first: MapWindow; whole: boolean }) {
  const foldable = first.total_accounts * first.total_locations <= FOLDABLE;
  const [opened, setOpened] = useState<ReadonlySet<string>>(new Set());
  const query = useQuery({
    queryKey: ["map", choice, "whole"],
    queryFn: () => windowOf(choice, 0, 0, [first.total_accounts, first.total_locations]),
    enabled: foldable && !whole,
  });
  const folded = useMemo(() => {
    if (!query.data) return undefined;
    const open = (location: string) =>
      setOpened((now) => {
        const next = new Set(now);
        if (!next.delete(location)) next.add(location);
        return next;
      });
    return { ...foldColumns(query.data.locations, query.data.cells, opened), opened, open };
  }, [query.data, opened]);
  if (whole) return <Grid choice={choice} first={first} />;
  if (foldable) return <Loaded query={query}>{() => <Grid choice={choice} first={first} folded={folded} />}</Loaded>;
  return (
    <>
      <Text fz="xs" className="quiet">
        Too large to be folded: narrow it to {FOLDABLE.toLocaleString("en")} cells, by accounts or by a folder.
      </Text>
      <Grid choice={choice} first={first} />
    </>
  );
}
