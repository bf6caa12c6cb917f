import { Group, SimpleGrid, Text } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { answer, GET } from "../api";
import { AddButton, EditButton } from "../parts/Editor";
import { Loaded } from "../parts/states";

/** How networks reach each other, and what locks somebody out: both are stated, and changed here. */
export function WayIn() {
  return (
    <SimpleGrid cols={{ base: 1, md: 2 }} mt={16} style={{ flexShrink: 0 }}>
      <Networks />
      <Lockouts />
    </SimpleGrid>
  );
}

const TITLES: Record<string, string> = { inside: "Inside", openings: "Open to", forwardings: "Forwarded" };

function Networks() {
  const query = useQuery({
    queryKey: ["network"],
    queryFn: () => answer(GET("/api/v1/item", { params: { query: { kind: "network", name: "network" } } })),
  });
  return (
    <section className="sheet" style={{ padding: "12px 16px" }} aria-label="Networks">
      <Group justify="space-between">
        <Text fw={650}>Networks</Text>
        <EditButton kind="network" name="network" what="networks" />
      </Group>
      <Loaded query={query}>
        {({ item }) =>
          Object.entries(item).map(([name, lines]) => (
            <div key={name} style={{ fontSize: 13, marginTop: 6 }}>
              <span className="quiet">{TITLES[name] ?? name}</span>
              {(lines as string[]).map((line) => (
                <div key={line} className="mono">
                  {line}
                </div>
              ))}
              {(lines as string[]).length === 0 && <div>nothing is stated</div>}
            </div>
          ))
        }
      </Loaded>
    </section>
  );
}

function Lockouts() {
  const query = useQuery({
    queryKey: ["lockout-rules"],
    queryFn: () => answer(GET("/api/v1/items", { params: { query: { kind: "lockout" } } })),
  });
  return (
    <section className="sheet" style={{ padding: "12px 16px" }} aria-label="Lockout">
      <Group justify="space-between">
        <Text fw={650}>Lockout</Text>
        {query.data && query.data.total < 2 && <AddButton kind="lockout" />}
      </Group>
      <Loaded query={query}>
        {({ items }) =>
          items.length === 0 ? (
            <Text fz={13}>Failed sign-ins lock nobody out.</Text>
          ) : (
            items.map(({ name, item }) => (
              <div key={name} className="beside" style={{ fontSize: 13, marginTop: 6 }}>
                <span>
                  {String(item.failures)} failures of one {name} within {String(item.within)} lock it for{" "}
                  {String(item.lasts)}
                </span>
                <EditButton kind="lockout" name={name} />
              </div>
            ))
          )
        }
      </Loaded>
    </section>
  );
}
