import { Button, Checkbox, Group, Loader, Modal, Select, Stack, Text, Textarea, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { IconPencil, IconPlus } from "@tabler/icons-react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useCallback, useLayoutEffect, useRef, useState } from "react";
import { answer, type Change, type ChangeKind, GET, type Item, POST, Problem } from "../api";
import { useDraft, usePast } from "../past";
import { Consequences } from "./Consequences";
import { declaredAs, type Field } from "./declared";
import { changesOf, type Draft, drafted, fieldsOf, itemOf, nameless } from "./fields";
import { LinesField } from "./LinesField";
import { AmountPicker, NamePicker, PlacePicker } from "./pickers";
import { SaveRow } from "./SaveRow";
import { useMayChange } from "./who";
import { writeChanges } from "./write";

const word = (kind: ChangeKind) => (kind === "setting" ? "settings" : declaredAs(kind).title);

interface Opened {
  kind: ChangeKind;
  name: string | null;
  recorded?: boolean;
  after?: (name: string | null) => void;
}

export function AddButton({ kind, after }: { kind: ChangeKind; after?: (name: string | null) => void }) {
  const [open, setOpen] = useState(false);
  const may = useMayChange();
  if (usePast() !== null || !may) return null;
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
  const may = useMayChange();
  if (usePast() !== null || !may) return null;
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
  const item = useQuery({
    queryKey: ["item", kind, name],
    queryFn: () =>
      answer(GET("/api/v1/item", { params: { query: { kind, name: name ?? "" } } })).catch((error) => {
        // Settings are there for everybody, if empty.
        if (kind === "setting" && error instanceof Problem && error.status === 404) return { item: {}, named_by: [] };
        throw error;
      }),
    enabled: name !== null && recorded,
    gcTime: 0,
  });
  const ready = name === null || !recorded || item.data;
  /** Is something filled in that closing would lose; and was closing asked for? */
  const filled = useRef(false);
  const setFilled = useCallback((now: boolean) => {
    filled.current = now;
  }, []);
  const [leaving, setLeaving] = useState(false);
  return (
    <Modal
      opened
      onClose={() => (filled.current ? setLeaving((asked) => !asked) : close())}
      size={1080}
      title={name === null ? `Add ${word(kind)}` : `${word(kind)} ${name}`}
      styles={{ title: { fontWeight: 650, fontSize: 17 } }}
    >
      {item.error && (
        <Text role="alert" className="bad">
          {item.error.message}
        </Text>
      )}
      {leaving && (
        <Group role="alertdialog" aria-label="Discard changes?" gap="sm" mb={10} className="leaving">
          <Text fz="sm" fw={600}>
            Discard what you filled in?
          </Text>
          <Button size="compact-sm" color="red.8" onClick={close}>
            Discard changes
          </Button>
          <Button size="compact-sm" variant="default" data-autofocus onClick={() => setLeaving(false)}>
            Keep editing
          </Button>
        </Group>
      )}
      {!ready && !item.error && <Loader size="sm" />}
      {ready && (
        <Form
          kind={kind}
          name={name}
          fields={fieldsOf(kind)}
          item={item.data?.item ?? {}}
          after={after}
          close={close}
          onFilled={setFilled}
        />
      )}
    </Modal>
  );
}

interface FormProps extends Opened {
  fields: Field[];
  item: Item;
  close: () => void;
  /** Told whether something is filled in. */
  onFilled: (filled: boolean) => void;
}

function Form({ kind, name, fields, item, after, close, onFilled }: FormProps) {
  const before = drafted(fields, item);
  const [draft, setDraft] = useState<Draft>(before);
  const [called, setCalled] = useState(name ?? "");
  const [removing, setRemoving] = useState(false);
  const [everywhere, setEverywhere] = useState(false);
  const [stops, setStops] = useState(false);
  const client = useQueryClient();
  const inDraft = useDraft();
  const written: Change[] = removing
    ? [{ op: "remove", kind, name: name ?? "", ...(everywhere ? { everywhere } : {}) }]
    : name === null
      ? called || nameless(kind)
        ? [itemOf(kind, called, fields, draft)]
        : []
      : changesOf(kind, name, fields, before, draft, called);
  const changes = stops ? written.map((change) => ({ ...change, stops })) : written;
  const filled = written.length > 0 || called !== (name ?? "");
  // At once: the next key may be Esc.
  useLayoutEffect(() => onFilled(filled), [filled, onFilled]);
  const [settled] = useDebouncedValue(JSON.stringify(changes), 350);
  const preview = useQuery({
    queryKey: ["preview", settled],
    queryFn: () => answer(POST("/api/v1/changes/preview", { body: { changes: JSON.parse(settled) } })),
    enabled: settled !== "[]",
    retry: false,
    gcTime: 0,
    placeholderData: keepPreviousData,
  });
  const save = useMutation({
    mutationFn: () => writeChanges(changes, inDraft, preview.data?.revision),
    onSuccess: async () => {
      await client.invalidateQueries();
      close();
      after?.(removing ? null : called || name);
    },
    onError: () => preview.refetch(),
  });
  const fresh = settled === JSON.stringify(changes) && !preview.isFetching;
  const problem = save.error ?? (fresh ? preview.error : null);
  const faults = problem instanceof Problem ? problem.places.map((p) => ({ ...p, at: fieldAt(p.where) })) : [];
  const wrong = (field: string) => faults.find((p) => p.at === field);
  return (
    <div className="editor">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          if (fresh && !preview.error && changes.length) save.mutate();
        }}
      >
        <Stack gap={8}>
          {!nameless(kind) && (name === null || declaredAs(kind).renamed) && (
            <Called
              kind={kind}
              called={called}
              disabled={removing}
              error={wrong(declaredAs(kind).key)?.message}
              put={setCalled}
            />
          )}
          {fields.map((f) => (
            <OneField
              key={f.name}
              field={f}
              text={draft[f.name] ?? ""}
              disabled={removing}
              error={wrong(f.name)?.message}
              put={(text) => setDraft((d) => ({ ...d, [f.name]: text }))}
            />
          ))}
          <SaveRow
            ready={fresh && changes.length > 0 && !preview.error}
            saving={save.isPending}
            word={inDraft === null ? "Save" : `Put in ${inDraft}`}
            removable={name !== null && kind !== "network"}
            removing={removing}
            setRemoving={setRemoving}
            close={close}
          />
          {kind === "endpoint" && !removing && (
            <Checkbox
              size="xs"
              label="Stop another endpoint that uses these ports"
              checked={stops}
              onChange={(e) => setStops(e.currentTarget.checked)}
            />
          )}
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
                  <span className="mono quiet">{fieldAt(p.where)}</span>{" "}
                  {p.message === problem.message ? "" : p.message}
                  {p.expected && <span className="quiet"> expected {p.expected}</span>}
                  {p.nearest && <span>; did you mean {p.nearest}?</span>}
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

/** The field that a mistake is about. */
function fieldAt(where: string): string {
  return where.replace(/^changes\[\d+\]\.?(item|set|add|drop)?\.?/, "").replace(/[.[].*$/, "");
}

/** What the item is called by: text, or one of a few words. */
interface CalledProps {
  kind: ChangeKind;
  called: string;
  disabled: boolean;
  error?: string;
  put: (text: string) => void;
}

function Called({ kind, called, disabled, error, put }: CalledProps) {
  const { key, fields } = declaredAs(kind);
  const choices = fields.find((f) => f.name === key)?.choices ?? [];
  if (choices.length) {
    return (
      <Select
        label={key}
        size="xs"
        data={choices}
        value={called || null}
        disabled={disabled}
        error={error}
        onChange={(v) => put(v ?? "")}
      />
    );
  }
  return (
    <TextInput
      label={kind === "folder" ? "place" : key}
      placeholder={kind === "folder" ? "STORE:/path" : undefined}
      size="xs"
      data-autofocus
      value={called}
      disabled={disabled}
      error={error}
      onChange={(e) => put(e.currentTarget.value)}
    />
  );
}

interface OneFieldProps {
  field: Field;
  text: string;
  disabled: boolean;
  error?: string;
  put: (text: string) => void;
}

export function OneField(props: OneFieldProps) {
  const { field, text, disabled, error, put } = props;
  const label = field.name.replace("_", " ");
  const common = { label, description: field.about, size: "xs" as const, disabled, error };
  if (field.parts.length) return <LinesField {...props} />;
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
  if (field.names === "account" || field.names === "unit") {
    return <NamePicker {...common} names={field.names} value={text} onChange={put} />;
  }
  if (field.names === "place" || field.names === "leads-to") {
    return <PlacePicker {...common} value={text} onChange={put} />;
  }
  if (field.kind === "size" || field.kind === "duration") {
    return <AmountPicker {...common} kind={field.kind} value={text} onChange={put} />;
  }
  const type = field.kind === "day" ? "date" : "text";
  return <TextInput {...common} type={type} value={text} onChange={(e) => put(e.currentTarget.value)} />;
}
