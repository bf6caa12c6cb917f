import { Badge, Group, Select, Tabs } from "@mantine/core";
import { useQuery } from "@tanstack/react-query";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { answer, GET, named } from "../api";
import { EditButton } from "../parts/Editor";
import { Note } from "../parts/Line";
import { AccountState } from "../parts/marks";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { AccessTree } from "./AccessTree";
import { Browse } from "./Browse";
import { CredentialsView } from "./CredentialsView";
import { HandoverView } from "./HandoverView";
import { StandingView } from "./StandingView";

export function AccountPage() {
  const name = useParams().name ?? "";
  const navigate = useNavigate();
  const [search, setSearch] = useSearchParams();
  const tab = search.get("show") ?? "access";
  const endpoint = search.get("endpoint") ?? undefined;
  const query = useQuery({
    queryKey: ["standing", name],
    queryFn: () => answer(GET("/api/v1/accounts/{name}/standing", { params: { path: { name } } })),
  });
  const endpoints = useQuery({
    queryKey: ["endpoints"],
    queryFn: () => answer(GET("/api/v1/endpoints")),
  });
  const put = (changes: Record<string, string | undefined>) => {
    const next = new URLSearchParams(search);
    for (const [key, value] of Object.entries(changes)) value ? next.set(key, value) : next.delete(key);
    setSearch(next, { replace: true });
  };
  return (
    <Page
      title={name}
      about={
        query.data && (
          <>
            {query.data.account.display}
            <Note note={query.data.account.note} />
          </>
        )
      }
      beside={
        query.data && (
          <Group gap={10} fz="sm" wrap="nowrap">
            <AccountState account={query.data.account} />
            <Badge variant="default" tt="none" fw={500}>
              {query.data.account.kind}
            </Badge>
            {query.data.account.unit && (
              <Badge variant="default" tt="none" fw={500}>
                {query.data.account.unit}
              </Badge>
            )}
            <EditButton
              kind="account"
              name={query.data.account.name}
              after={(name) => navigate(name ? `/accounts/${named(name)}` : "/accounts")}
            />
          </Group>
        )
      }
    >
      <Loaded query={query}>
        {(standing) => (
          <Tabs
            value={tab}
            onChange={(value) => setSearch({ show: value ?? "access", ...(endpoint ? { endpoint } : {}) })}
            style={{ flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}
            keepMounted={false}
          >
            <Group justify="space-between" align="flex-end" mb={12} wrap="nowrap">
              <Tabs.List style={{ flex: 1 }}>
                <Tabs.Tab value="access">Access</Tabs.Tab>
                <Tabs.Tab value="sees">What it sees</Tabs.Tab>
                <Tabs.Tab value="standing">Standing and settings</Tabs.Tab>
                <Tabs.Tab value="credentials">Credentials</Tabs.Tab>
                <Tabs.Tab value="handover">Hand-over</Tabs.Tab>
              </Tabs.List>
              <Select
                aria-label="Through which endpoint"
                placeholder="Once it is in, by any endpoint"
                clearable
                size="xs"
                w={230}
                data={endpoints.data?.endpoints.map((e) => e.name) ?? []}
                value={endpoint ?? null}
                onChange={(value) => put({ endpoint: value ?? undefined })}
              />
            </Group>
            <Tabs.Panel value="access" style={{ flex: 1, minHeight: 0, display: "flex", flexDirection: "column" }}>
              <AccessTree account={standing.account.name} endpoint={endpoint} />
            </Tabs.Panel>
            <Tabs.Panel value="sees">
              <Browse account={standing.account.name} endpoint={endpoint} />
            </Tabs.Panel>
            <Tabs.Panel value="standing">
              <StandingView standing={standing} />
            </Tabs.Panel>
            <Tabs.Panel value="credentials">
              <CredentialsView account={standing.account.name} />
            </Tabs.Panel>
            <Tabs.Panel value="handover" style={{ overflow: "auto" }}>
              <HandoverView account={standing.account.name} />
            </Tabs.Panel>
          </Tabs>
        )}
      </Loaded>
    </Page>
  );
}
