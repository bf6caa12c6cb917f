import { Accordion, Button, Checkbox, Modal, PasswordInput, Stack, Text, TextInput } from "@mantine/core";
import { IconPencil, IconPlus } from "@tabler/icons-react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { answer, DELETE, type Directory, PATCH, POST, Problem } from "../api";
import declared from "../generated/kinds.json";
import { OneField } from "../parts/Editor";
import { SaveRow } from "../parts/SaveRow";

const FIELDS = declared.directory;
type Field = (typeof FIELDS)[number];
type Value = string | number | boolean | null;
type Draft = Record<string, string>;
/** What is mostly given; the rest has defaults that suit most directories. */
const FIRST = ["address", "start_tls", "bind_name", "people_base", "groups_base", "units_base", "suffix", "interval"];

/** A button that opens the form for a directory, or for a new one. */
export function DirectoryButton({ directory }: { directory?: Directory }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      {directory ? (
        <Button
          variant="subtle"
          size="compact-xs"
          leftSection={<IconPencil size={13} />}
          aria-label={`Edit directory ${directory.name}`}
          onClick={() => setOpen(true)}
        >
          Edit
        </Button>
      ) : (
        <Button variant="default" size="xs" leftSection={<IconPlus size={14} />} onClick={() => setOpen(true)}>
          Add directory
        </Button>
      )}
      {open && <Form directory={directory} close={() => setOpen(false)} />}
    </>
  );
}

function drafted(options: Record<string, unknown>): Draft {
  const text = (value: unknown) => (typeof value === "boolean" ? (value ? "yes" : "no") : String(value ?? ""));
  return Object.fromEntries(FIELDS.map((f) => [f.name, text(options[f.name] ?? f.default)]));
}

function optionFrom(field: Field, text: string): Value {
  const given = text.trim();
  if (given === "") return field.default ?? (field.required ? "" : null);
  if (field.kind === "yes-no") return given === "yes";
  return field.kind === "number" && /^\d+$/.test(given) ? Number(given) : given;
}

/** The options that are different from before; of a new directory those that are not as by default. */
export function different(before: Draft, draft: Draft): Record<string, Value> {
  const changed = FIELDS.filter((f) => draft[f.name] !== before[f.name]);
  return Object.fromEntries(changed.map((f) => [f.name, optionFrom(f, draft[f.name] ?? "")]));
}

function Form({ directory, close }: { directory?: Directory; close: () => void }) {
  const before = drafted(directory?.options ?? {});
  const [name, setName] = useState(directory?.name ?? "");
  const [draft, setDraft] = useState<Draft>(before);
  const [password, setPassword] = useState("");
  const [removing, setRemoving] = useState(false);
  const [keep, setKeep] = useState(true);
  const client = useQueryClient();
  const save = useMutation({
    mutationFn: async () => {
      const params = { path: { name } };
      const given = { options: different(before, draft), ...(password ? { bind_password: password } : {}) };
      if (removing) {
        await answer(DELETE("/api/v1/directories/{name}", { params: { ...params, query: { keep } } }));
      } else if (directory) {
        await answer(PATCH("/api/v1/directories/{name}", { params, body: given }));
      } else {
        await answer(POST("/api/v1/directories", { body: { name, ...given } as never }));
      }
    },
    onSuccess: async () => {
      await client.invalidateQueries();
      close();
    },
  });
  const field = (f: Field) => (
    <OneField
      key={f.name}
      field={{ ...f, word: "", parts: [] }}
      text={draft[f.name] ?? ""}
      disabled={removing}
      put={(text) => setDraft((d) => ({ ...d, [f.name]: text }))}
    />
  );
  const ready = removing || (name !== "" && draft.address !== "" && draft.people_base !== "");
  return (
    <Modal
      opened
      onClose={close}
      size={620}
      title={directory ? `Directory ${directory.name}` : "Add directory"}
      styles={{ title: { fontWeight: 650, fontSize: 17 } }}
    >
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (ready) save.mutate();
        }}
      >
        <Stack gap={8}>
          {!directory && (
            <TextInput
              label="name"
              size="xs"
              data-autofocus
              value={name}
              onChange={(e) => setName(e.currentTarget.value)}
            />
          )}
          {FIELDS.filter((f) => FIRST.includes(f.name)).map(field)}
          <PasswordInput
            label="bind password"
            description={directory?.has_password ? "one is kept; left empty, it stays" : "kept encrypted, never shown"}
            autoComplete="new-password"
            size="xs"
            value={password}
            disabled={removing}
            onChange={(e) => setPassword(e.currentTarget.value)}
          />
          <Accordion variant="contained">
            <Accordion.Item value="more">
              <Accordion.Control>Filters, attributes and limits</Accordion.Control>
              <Accordion.Panel>
                <Stack gap={8}>{FIELDS.filter((f) => !FIRST.includes(f.name)).map(field)}</Stack>
              </Accordion.Panel>
            </Accordion.Item>
          </Accordion>
          {removing && (
            <Checkbox
              size="xs"
              label="What came from it becomes local; otherwise it goes"
              checked={keep}
              onChange={(e) => setKeep(e.currentTarget.checked)}
            />
          )}
          {save.error && (
            <Text component="div" role="alert" className="bad" fz={13}>
              {save.error.message}
              {save.error instanceof Problem &&
                save.error.places
                  .filter((p) => !save.error.message.includes(p.message))
                  .map((p) => <div key={p.where + p.message}>{`${p.where}: ${p.message}`}</div>)}
            </Text>
          )}
          <SaveRow
            ready={ready}
            saving={save.isPending}
            removable={directory !== undefined}
            removing={removing}
            setRemoving={setRemoving}
            close={close}
          />
        </Stack>
      </form>
    </Modal>
  );
}
