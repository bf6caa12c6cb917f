import { Autocomplete, type AutocompleteProps } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { answer, GET } from "../api";

const useAccounts = (enabled: boolean) =>
  useQuery({
    queryKey: ["accounts"],
    queryFn: () => answer(GET("/api/v1/accounts", { params: { query: { limit: 200_000 } } })),
    enabled,
  }).data?.accounts.map((a) => a.name) ?? [];

const useUnits = (enabled: boolean) =>
  useQuery({ queryKey: ["units"], queryFn: () => answer(GET("/api/v1/units")), enabled }).data?.units.map(
    (unit) => unit.path,
  ) ?? [];

const useGroups = (enabled: boolean) =>
  useQuery({
    queryKey: ["groups", "", "all"],
    queryFn: () => answer(GET("/api/v1/groups", { params: { query: { limit: 200_000 } } })),
    enabled,
  }).data?.groups.map((g) => g.name) ?? [];

type Props = Omit<AutocompleteProps, "data">;

/** An account, a group or a unit: those that there are, the first that hold what was typed. */
export function NamePicker({ names, ...props }: Props & { names: "account" | "group" | "unit" }) {
  const accounts = useAccounts(names === "account");
  const groups = useGroups(names === "group");
  const units = useUnits(names === "unit");
  return <Autocomplete {...props} limit={30} data={{ account: accounts, group: groups, unit: units }[names]} />;
}

/** Whom a line can name: accounts, groups and units, and the subjects that are built in. */
export function SubjectPicker({ builtIn, ...props }: Props & { builtIn: string[] }) {
  const data = [
    ...builtIn,
    ...useGroups(true).map((name) => `group:${name}`),
    ...useUnits(true).map((path) => `unit:${path}`),
    ...useAccounts(true).map((name) => `account:${name}`),
  ];
  return <Autocomplete {...props} limit={30} data={data} />;
}

/** The stores, or the folders in what was typed so far. */
function usePlaces(typed: string): string[] {
  const inside = typed.includes(":/") ? typed.slice(0, typed.lastIndexOf("/") + 1).replace(/(.)\/$/, "$1") : "";
  const top = inside.endsWith(":") ? `${inside}/` : inside;
  const stores = useStores();
  const folder = useQuery({
    queryKey: ["folders", top],
    queryFn: () => answer(GET("/api/v1/folders", { params: { query: { place: top } } })),
    enabled: top !== "" && !top.includes("{"),
    retry: false,
  });
  return top ? (folder.data?.folders ?? []).map((f) => f.place) : stores.map((name) => `${name}:/`);
}

const useStores = () =>
  useQuery({ queryKey: ["stores"], queryFn: () => answer(GET("/api/v1/stores")) }).data?.stores.map((s) => s.name) ??
  [];

const useLocations = () =>
  useQuery({
    queryKey: ["virtual-paths"],
    queryFn: () => answer(GET("/api/v1/virtual-paths")),
  }).data?.virtual_paths.map((v) => v.path) ?? [];

/** What is offered stands there once: one virtual path may lead to several folders. */
const Offering = ({ data, ...props }: Props & { data: string[] }) => (
  <Autocomplete {...props} limit={30} data={[...new Set(data)]} />
);

type Typed = Props & { value: string };

/** A store folder: the stores, and then the folders in what was typed so far. */
export const PlacePicker = (props: Typed) => <Offering {...props} data={usePlaces(props.value)} />;

/** A location: the virtual paths, which accounts see. */
export const LocationPicker = (props: Props) => <Offering {...props} data={useLocations()} />;

/** Where somebody can be: a location, or a store folder. */
export function WherePicker(props: Typed) {
  const [locations, places] = [useLocations(), usePlaces(props.value)];
  return <Offering {...props} data={props.value.includes(":") ? places : [...locations, ...places]} />;
}

/** What a report can be about: a folder with all below it, a store, a group. */
export function AboutPicker(props: Typed) {
  const [places, stores, groups] = [usePlaces(props.value), useStores(), useGroups(true)];
  const named = [...stores.map((name) => `store:${name}`), ...groups.map((name) => `group:${name}`)];
  return <Offering {...props} data={props.value.includes(":/") ? places : [...places, ...named]} />;
}

const UNITS = { size: ["KiB", "MiB", "GiB", "TiB"], duration: ["minutes", "hours", "days"] };

/** A size or a duration: the number that was typed, in each unit. */
export function AmountPicker({ kind, ...props }: Props & { kind: "size" | "duration"; value: string }) {
  const number = props.value.match(/^\s*(\d+(\.\d+)?)/)?.[1];
  return <Autocomplete {...props} data={number ? UNITS[kind].map((unit) => `${number} ${unit}`) : []} />;
}
