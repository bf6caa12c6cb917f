import { Button, Checkbox, Group, Loader, Modal, Select, Stack, Text, Textarea, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { IconPencil, IconPlus } from "@tabler/icons-react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { ask, type Change, get, type Item, type Preview, Problem } from "../api";
import { Consequences } from "./Consequences";
import { CALLED, changesOf, type Draft, drafted, type Field, fieldsOf, itemOf } from "./fields";

const WORDS: Record<string, string> = { "virtual-path": "virtual path", setting: "settings" };
const word = (kind: string) => WORDS[kind] ?? kind;
/** Kinds whose items have a name that can be changed, everything that names them going along. */
const RENAMED = ["account", "group", "unit", "store", "endpoint", "quota", "folder"];

interface Opened {
  kind: string;
  name: string | null;
  recorded?: boolean;
  after?: (name: string | null) => void;
}

export function AddButton({ kind, after }: { kind: string; after?: (name: string | null) => void }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button variant="default" size="xs" leftSection={<IconPlus size={14} />} onClick={() => setOpen(true)}>
        Add {word(kind)}
      </Button>
      {open && <Editor kind={kind} name={null} after={after} close={() => setOpen(false)} />}
    </>
  );
}

export function EditButton({
  kind,
  name,
  what,
  label,
  recorded,
  after,
}: Opened & { name: string; what?: string; label?: string }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button
        variant="subtle"
        size="compact-xs"
        leftSection={<IconPencil size={13} />}
        aria-label={`Edit ${what ?? `${word(kind)} ${name}`}`}
        onClick={() => setOpen(true)}
      >
        {label ?? "Edit"}
      </Button>
      {open && <Editor kind={kind} name={name} recorded={recorded} after={after} close={() => setOpen(false)} />}
    </>
  );
}

/** One item in fields, and beside it what follows from the change, before it is saved. */
function Editor({ kind, name, recorded = true, after, close }: Opened & { close: () => void }) {
  const schema = useQuery({
    queryKey: ["schema"],
    queryFn: () => get<Parameters<typeof fieldsOf>[0]>("/model/schema"),
    staleTime: Number.POSITIVE_INFINITY,
  });
  const item = useQuery({
    queryKey: ["item", kind, name],
    queryFn: () =>
      get<{ item: Item; named_by: string[] }>("/item", { kind, name }).catch((error) => {
        // Settings are there for everybody, if empty.
        if (kind === "setting" && error instanceof Problem && error.status === 404) return { item: {}, named_by: [] };
        throw error;
      }),
    enabled: name !== null && recorded,
    gcTime: 0,
  });
  const ready = schema.data && (name === null || !recorded || item.data);
  return (
    <Modal
      opened
      onClose={close}
      size={1080}
      title={name === null ? `Add ${word(kind)}` : `${word(kind)} ${name}`}
      styles={{ title: { fontWeight: 650, fontSize: 17 } }}
    >
      {item.error && (
        <Text role="alert" className="bad">
          {item.error.message}
        </Text>
      )}
      {!ready && !item.error && <Loader size="sm" />}
      {schema.data && ready && (
        <Form
          kind={kind}
          name={name}
          fields={kind === "unit" ? [] : fieldsOf(schema.data, kind)}
          item={item.data?.item ?? {}}
          after={after}
          close={close}
        />
      )}
    </Modal>
  );
}

interface FormProps extends Opened {
  fields: Field[];
  item: Item;
  close: () => void;
}

function Form({ kind, name, fields, item, after, close }: FormProps) {
  const before = drafted(fields, item);
  const [draft, setDraft] = useState<Draft>(before);
  const [called, setCalled] = useState(name ?? "");
  const [removing, setRemoving] = useState(false);
  const [everywhere, setEverywhere] = useState(false);
  const client = useQueryClient();
  const changes: Change[] = removing
    ? [{ op: "remove", kind, name: name ?? "", ...(everywhere ? { everywhere } : {}) }]
    : name === null
      ? called || CALLED[kind] === ""
        ? [itemOf(kind, called, fields, draft)]
        : []
      : changesOf(kind, name, fields, before, draft, called);
  const [settled] = useDebouncedValue(JSON.stringify(changes), 350);
  const preview = useQuery({
    queryKey: ["preview", settled],
    queryFn: () => ask<Preview>("POST", "/changes/preview", {}, { changes: JSON.parse(settled) }),
    enabled: settled !== "[]",
    retry: false,
    gcTime: 0,
    placeholderData: keepPreviousData,
  });
  const save = useMutation({
    mutationFn: () => ask("POST", "/changes", {}, { changes }, preview.data?.revision),
    onSuccess: async () => {
      await client.invalidateQueries();
      close();
      after?.(removing ? null : called || name);
    },
    onError: () => preview.refetch(),
  });
  const fresh = settled === JSON.stringify(changes) && !preview.isFetching;
  const problem = save.error ?? (fresh ? preview.error : null);
  return (
    <div style={{ display: "grid", gridTemplateColumns: "minmax(0, 1.1fr) minmax(0, 1fr)", gap: 28 }}>
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (fresh && !preview.error && changes.length) save.mutate();
        }}
      >
        <Stack gap={8}>
          {(name === null ? CALLED[kind] !== "" : RENAMED.includes(kind)) && (
            <TextInput
              label={kind === "folder" ? "place" : (CALLED[kind] ?? "name")}
              placeholder={kind === "folder" ? "STORE:/path" : undefined}
              size="xs"
              data-autofocus
              value={called}
              disabled={removing}
              onChange={(e) => setCalled(e.currentTarget.value)}
            />
          )}
          {fields.map((f) => (
            <OneField
              key={f.name}
              field={f}
              text={draft[f.name] ?? ""}
              disabled={removing}
              put={(text) => setDraft((d) => ({ ...d, [f.name]: text }))}
            />
          ))}
          <Group justify="space-between" mt={8}>
            <Group gap={8}>
              <Button
                type="submit"
                size="xs"
                color={removing ? "red.8" : undefined}
                disabled={!fresh || !changes.length || !!preview.error}
                loading={save.isPending}
              >
                {removing ? "Remove" : "Save"}
              </Button>
              <Button size="xs" variant="default" onClick={removing ? () => setRemoving(false) : close}>
                {removing ? "Keep it" : "Cancel"}
              </Button>
            </Group>
            {name !== null && !removing && (
              <Button size="xs" variant="subtle" color="red.8" onClick={() => setRemoving(true)}>
                Remove…
              </Button>
            )}
          </Group>
          {removing && ["account", "group", "unit"].includes(kind) && (
            <Checkbox
              size="xs"
              label="Strike out the lines that name it, too"
              checked={everywhere}
              onChange={(e) => setEverywhere(e.currentTarget.checked)}
            />
          )}
        </Stack>
      </form>
      <section
        aria-label="What follows"
        style={{ borderLeft: "1px solid var(--edge)", paddingLeft: 24, minHeight: 160 }}
      >
        <Text fw={650} fz="sm" mb={8}>
          What follows {!fresh && <Loader size={11} ml={6} />}
        </Text>
        {problem ? (
          <div role="alert" style={{ fontSize: 13 }}>
            <div className="bad">{problem.message}</div>
            {problem instanceof Problem &&
              problem.places.map((p) => (
                <div key={p.where + p.message} style={{ marginTop: 4 }}>
                  <span className="mono quiet">{p.where.replace(/^changes\[\d+\]\.?(item|set)?\.?/, "")}</span>{" "}
                  {p.message === problem.message ? "" : p.message}
                  {p.expected && <span className="quiet"> expected {p.expected}</span>}
                  {p.nearest && <span> did you mean {p.nearest}?</span>}
                </div>
              ))}
          </div>
        ) : changes.length === 0 ? (
          <Text fz="sm" className="quiet">
            Nothing is different yet.
          </Text>
        ) : (
          preview.data && <Consequences preview={preview.data} />
        )}
      </section>
    </div>
  );
}

function OneField(props: { field: Field; text: string; disabled: boolean; put: (text: string) => void }) {
  const { field, text, disabled, put } = props;
  const label = field.name.replace("_", " ");
  const common = { label, description: field.about, size: "xs" as const, disabled };
  if (field.kind === "lines") {
    return (
      <Textarea
        {...common}
        autosize
        minRows={1}
        maxRows={9}
        styles={{ input: { fontFamily: "var(--mantine-font-family-monospace)" } }}
        value={text}
        onChange={(e) => put(e.currentTarget.value)}
      />
    );
  }
  if (field.kind === "choice" || field.kind === "yes-no") {
    return (
      <Select
        {...common}
        clearable={!field.required}
        placeholder="as by default"
        data={field.kind === "yes-no" ? ["yes", "no"] : field.choices}
        value={text || null}
        onChange={(value) => put(value ?? "")}
      />
    );
  }
  return <TextInput {...common} value={text} onChange={(e) => put(e.currentTarget.value)} />;
}
