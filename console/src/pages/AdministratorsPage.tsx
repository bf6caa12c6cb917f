import { Button, Checkbox, Group, Modal, Select, Stack, Text, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Administrator, answer, DELETE, GET, PATCH, POST, type Role, type Token } from "../api";
import declared from "../generated/kinds.json";
import { SaveRow } from "../parts/SaveRow";
import { Page } from "../parts/Shell";
import { Loaded } from "../parts/states";
import { type Column, Table } from "../parts/Table";
import { moment } from "../parts/time";
import { useMay } from "../parts/who";

const ROLES = Object.entries(declared.roles).map(([role, adds]) => ({ value: role, label: `${role}: ${adds}` }));
const area = (a: Administrator) => a.area?.join(", ") ?? "everything";
const reads = (a: Administrator) => (a.area === null || a.reads === "everything" ? "everything" : "its area");
const KINDS: Record<string, string> = { session: "console session", code: "sign-in link" };
const when = (text: string | null | undefined) => (text ? moment(text) : "never");

/** Who may use the service, and what is signed in with. */
export function AdministratorsPage() {
  const [edited, setEdited] = useState<Administrator | "new" | null>(null);
  const [link, setLink] = useState<string | null>(null);
  const isOwner = useMay("owner");
  const client = useQueryClient();
  const people = useQuery({ queryKey: ["administrators"], queryFn: () => answer(GET("/api/v1/administrators")) });
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => answer(GET("/api/v1/tokens")) });
  const makeLink = useMutation({
    mutationFn: (name: string) =>
      answer(POST("/api/v1/administrators/{name}/link", { params: { path: { name: name } } } as never)),
    onSuccess: (made: { path: string }) => setLink(window.location.origin + made.path),
  });
  const end = useMutation({
    mutationFn: (id: number) => answer(DELETE("/api/v1/tokens/{id}", { params: { path: { id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["tokens"] }),
  });
  const problem = makeLink.error ?? end.error;
  const columns: Column<Administrator>[] = [
    { head: "administrator", track: "minmax(150px, 1fr)", by: (a) => a.name, show: (a) => <b>{a.name}</b> },
    { head: "role", track: "100px", by: (a) => a.role, show: (a) => a.role },
    { head: "area", track: "minmax(200px, 2fr)", by: area, show: area },
    { head: "reads", track: "110px", by: reads, show: reads },
    {
      head: "password",
      track: "90px",
      show: (a) => (a.directory ? `of ${a.directory}` : a.has_password ? "set" : "none"),
    },
    {
      head: "",
      track: "210px",
      show: (a) =>
        isOwner && (
          <Group gap={4}>
            <Button size="compact-xs" variant="subtle" onClick={() => setEdited(a)}>
              Edit
            </Button>
            <Button size="compact-xs" variant="subtle" onClick={() => makeLink.mutate(a.name)}>
              Sign-in link
            </Button>
          </Group>
        ),
    },
  ];
  const tokenColumns: Column<Token>[] = [
    { head: "what", track: "minmax(150px, 1fr)", by: (t) => t.called, show: (t) => t.called ?? KINDS[t.kind] },
    { head: "of", track: "minmax(120px, 1fr)", by: (t) => t.administrator, show: (t) => t.administrator },
    { head: "role", track: "100px", by: (t) => t.role, show: (t) => (t.directory ? `SCIM, ${t.directory}` : t.role) },
    { head: "last day", track: "110px", by: (t) => t.last_day, show: (t) => t.last_day ?? "none" },
    { head: "last used", track: "150px", by: (t) => t.last_used, show: (t) => when(t.last_used) },
    {
      head: "",
      track: "80px",
      show: (t) => (
        <Button size="compact-xs" variant="subtle" color="red.8" onClick={() => end.mutate(t.id)}>
          End
        </Button>
      ),
    },
  ];
  return (
    <Page
      title="Administrators"
      beside={
        isOwner && (
          <Button size="xs" onClick={() => setEdited("new")}>
            Add an administrator
          </Button>
        )
      }
    >
      {problem && (
        <div role="alert" className="bad">
          {problem.message}
        </div>
      )}
      <Loaded query={people}>
        {(data) => (
          <Table
            label="Administrators"
            rows={data.administrators}
            columns={columns}
            keyOf={(a) => a.name}
            one="administrator"
            none="There are none."
          />
        )}
      </Loaded>
      <Text fw={650} mt={10}>
        What is signed in with
      </Text>
      <Loaded query={tokens}>
        {(data) => (
          <Table
            label="Tokens"
            rows={data.tokens}
            columns={tokenColumns}
            keyOf={(t) => String(t.id)}
            one="token"
            none="There is nothing."
          />
        )}
      </Loaded>
      {edited && <Edited administrator={edited === "new" ? null : edited} close={() => setEdited(null)} />}
      <Modal opened={link !== null} onClose={() => setLink(null)} title="Good once, and for a day" size={640}>
        <Text fz="sm" mb={8}>
          Whoever opens it is signed in. It is not shown again.
        </Text>
        <TextInput readOnly aria-label="Link" value={link ?? ""} onFocus={(e) => e.currentTarget.select()} />
      </Modal>
    </Page>
  );
}

function Edited({ administrator, close }: { administrator: Administrator | null; close: () => void }) {
  const [name, setName] = useState(administrator?.name ?? "");
  const [role, setRole] = useState<string>(administrator?.role ?? "reader");
  const [removing, setRemoving] = useState(false);
  const [directory, setDirectory] = useState<string | null>(administrator?.directory ?? null);
  const directories = useQuery({ queryKey: ["directories"], queryFn: () => answer(GET("/api/v1/directories")) });
  const [lines, setLines] = useState(administrator?.area?.join("\n") ?? "");
  const [readsAll, setReadsAll] = useState(administrator?.reads === "everything");
  const client = useQueryClient();
  const done = async () => {
    await client.invalidateQueries();
    close();
  };
  const save = useMutation({
    mutationFn: async () => {
      const body = {
        role: role as Role,
        area: lines.split("\n").filter((line) => line.trim()),
        reads: readsAll ? ("everything" as const) : ("area" as const),
        directory: directory ?? "",
      };
      if (administrator === null)
        await answer(POST("/api/v1/administrators", { body: { name: name.trim(), ...body } }));
      else {
        const params = { path: { name: administrator.name } };
        await answer(PATCH("/api/v1/administrators/{name}", { params, body }));
      }
    },
    onSuccess: done,
  });
  const remove = useMutation({
    mutationFn: () =>
      answer(DELETE("/api/v1/administrators/{name}", { params: { path: { name: administrator?.name ?? "" } } })),
    onSuccess: done,
  });
  const problem = save.error ?? remove.error;
  return (
    <Modal opened onClose={close} title={administrator ? administrator.name : "Add an administrator"} size={560}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (removing) remove.mutate();
          else if (name.trim()) save.mutate();
        }}
      >
        <Stack gap={8}>
          {!administrator && (
            <TextInput label="name" size="xs" value={name} onChange={(e) => setName(e.currentTarget.value)} />
          )}
          <Select label="role" size="xs" data={ROLES} value={role} onChange={(v) => setRole(v ?? role)} />
          <Textarea
            label="area"
            description="store:NAME, STORE:/folder, unit:PATH or group:NAME, a line each; empty: everything"
            size="xs"
            autosize
            minRows={2}
            value={lines}
            onChange={(e) => setLines(e.currentTarget.value)}
          />
          <Checkbox
            label="reads everything"
            description="Otherwise an area limits what can be read, too."
            size="xs"
            disabled={!lines.trim()}
            checked={readsAll || !lines.trim()}
            onChange={(e) => setReadsAll(e.currentTarget.checked)}
          />
          <Select
            label="signs in through"
            description="a directory, with the password that it has there; empty: a link, or a password here"
            size="xs"
            clearable
            data={(directories.data?.directories ?? [])
              .filter((d) => /^ldap/.test(d.options.address))
              .map((d) => d.name)}
            value={directory}
            onChange={setDirectory}
          />
          {problem && (
            <div role="alert" className="bad" style={{ fontSize: 13 }}>
              {problem.message}
            </div>
          )}
          <SaveRow
            ready={!!name.trim()}
            saving={save.isPending || remove.isPending}
            removable={administrator !== null}
            removing={removing}
            setRemoving={setRemoving}
            close={close}
          />
        </Stack>
      </form>
    </Modal>
  );
}
