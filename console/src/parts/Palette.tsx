import { Group, Text } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { Spotlight, spotlight } from "@mantine/spotlight";
import "@mantine/spotlight/styles.css";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { answer, GET, type Named } from "../api";

/** So many that are found are shown. */
const SHOWN = 12;

/** The page of something that has a name. */
export function addressOf({ kind, name }: Pick<Named, "kind" | "name">): string {
  const called = encodeURIComponent(name);
  switch (kind) {
    case "account":
      return `/accounts/${called}`;
    case "group":
    case "unit":
      return `/subjects/${encodeURIComponent(`${kind}:${name}`)}`;
    case "store":
      return `/stores?place=${encodeURIComponent(`${name}:/`)}`;
    case "folder":
      return `/stores?place=${called}`;
    default:
      return `/${kind === "virtual-path" ? "virtual-paths" : `${kind}s`}?find=${called}`;
  }
}

const ask = (text: string) => ({
  queryKey: ["find", text],
  queryFn: () => answer(GET("/api/v1/find", { params: { query: { text, most: SHOWN } } })),
});

/** Goes to anything by a part of its name. */
export function Palette({ pages }: { pages: readonly (readonly [string, string, ...unknown[]])[] }) {
  const navigate = useNavigate();
  const [typed, setTyped] = useState("");
  const [text] = useDebouncedValue(typed.trim(), 120);
  const found = useQuery({ ...ask(text), enabled: text !== "" });
  const client = useQueryClient();
  const wanted = typed.trim().toLowerCase();
  // What was found for another text is no answer to this one: Enter would go there.
  const fresh = text !== "" && text === typed.trim() && found.isSuccess;
  const named = fresh ? found.data.found : [];
  const here = pages.filter(([, label]) => label.toLowerCase().includes(wanted));
  const nothing = wanted !== "" && text === typed.trim() && found.isSuccess && named.length + here.length === 0;
  /** The likeliest of what is typed, whatever was found so far: whoever is in a hurry types and presses Enter. */
  const goToFirst = async () => {
    const [first] = (await client.fetchQuery(ask(typed.trim()))).found;
    const to = first ? addressOf(first) : here[0]?.[0];
    if (to === undefined) return;
    spotlight.close();
    navigate(to);
  };
  return (
    <Spotlight.Root query={typed} onQueryChange={setTyped} shortcut="mod + K" tagsToIgnore={[]} clearQueryOnClose>
      <Spotlight.Search
        placeholder="An account, a group, a folder, a page …"
        aria-label="Go to"
        onKeyDown={(event) => {
          const chosen = document.querySelector(".mantine-Spotlight-action[data-selected]");
          if (event.key === "Enter" && wanted !== "" && !chosen) goToFirst();
        }}
      />
      <Spotlight.ActionsList>
        {named.map((x) => (
          <Spotlight.Action key={`${x.kind} ${x.name}`} onClick={() => navigate(addressOf(x))}>
            <Line what={x.kind.replace("-", " ")} name={x.name} also={x.also ?? ""} />
          </Spotlight.Action>
        ))}
        {here.map(([to, label]) => (
          <Spotlight.Action key={to} onClick={() => navigate(to)}>
            <Line what="page" name={label} also="" />
          </Spotlight.Action>
        ))}
        {nothing && <Spotlight.Empty>Nothing has that in its name.</Spotlight.Empty>}
      </Spotlight.ActionsList>
    </Spotlight.Root>
  );
}

function Line({ what, name, also }: { what: string; name: string; also: string }) {
  return (
    <Group gap={10} wrap="nowrap" w="100%">
      <Text fz="xs" className="quiet" w={82} style={{ flex: "none" }}>
        {what}
      </Text>
      <Text fz="sm" className={name.includes("/") ? "mono" : undefined} truncate>
        {name}
      </Text>
      <Text fz="xs" className="quiet" truncate>
        {also}
      </Text>
    </Group>
  );
}
