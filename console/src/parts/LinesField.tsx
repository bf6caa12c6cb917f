import { Button, Group, Input, MultiSelect, Select, Text, TextInput } from "@mantine/core";
import { IconPencil, IconPlus, IconX } from "@tabler/icons-react";
import { useState } from "react";
import type { Field } from "./declared";
import { EFFECTS, lineFrom, type Parts, partsOf, REACHES, RIGHT_WORDS, sentence } from "./lines";
import { SubjectPicker } from "./pickers";

interface Props {
  field: Field;
  text: string;
  disabled: boolean;
  put: (text: string) => void;
}

/** Entries, grants or members: a line each, built from choices or typed, with what it means in a sentence. */
export function LinesField({ field, text, disabled, put }: Props) {
  const [open, setOpen] = useState<number | null>(null);
  const lines = text === "" ? [] : text.split("\n");
  const label = field.name.replace("_", " ");
  const change = (at: number, line: string) => put(lines.map((x, i) => (i === at ? line : x)).join("\n"));
  const add = () => {
    put([...lines, field.parts.includes("effect") ? "allow" : " "].join("\n"));
    setOpen(lines.length);
  };
  return (
    <Input.Wrapper label={label} description={field.about} size="xs">
      <fieldset aria-label={label} disabled={disabled} className="lines">
        {lines.map((line, i) => (
          <div key={i}>
            <div className="line">
              <span className="mono">{line.trim() || "…"}</span>
              <Button
                size="compact-xs"
                variant="subtle"
                aria-label={`Edit ${field.word} ${line.trim() || i + 1}`}
                aria-expanded={open === i}
                onClick={() => setOpen(open === i ? null : i)}
              >
                <IconPencil size={13} />
              </Button>
              <Button
                size="compact-xs"
                variant="subtle"
                color="red.8"
                aria-label={`Take away ${field.word} ${line.trim() || i + 1}`}
                onClick={() => {
                  put(lines.filter((_, j) => j !== i).join("\n"));
                  setOpen(null);
                }}
              >
                <IconX size={13} />
              </Button>
            </div>
            {open === i && <LineForm field={field} line={line} put={(now) => change(i, now)} />}
          </div>
        ))}
        <Button size="compact-xs" variant="default" leftSection={<IconPlus size={12} />} onClick={add}>
          Add {field.word}
        </Button>
      </fieldset>
    </Input.Wrapper>
  );
}

/** One line: its parts as choices, the line itself to be typed, and what it means. */
function LineForm({ field, line, put }: { field: Field; line: string; put: (line: string) => void }) {
  const parts = partsOf(field, line);
  const set = (some: Partial<Parts>) => put(lineFrom(field, { ...parts, ...some }) || " ");
  const has = (part: string) => field.parts.includes(part);
  const builtIn = has("rights") ? ["anyone", "signed-in", "anonymous", ...(has("reach") ? ["owner"] : [])] : [];
  const known = parts.rights.filter((right) => RIGHT_WORDS.includes(right));
  return (
    <div className="lineForm">
      <Group gap={8} align="start" wrap="nowrap">
        {has("effect") && (
          <Select
            size="xs"
            w={92}
            label="effect"
            data={EFFECTS}
            value={EFFECTS.includes(parts.effect) ? parts.effect : null}
            onChange={(effect) => set({ effect: effect ?? "" })}
          />
        )}
        <SubjectPicker
          size="xs"
          flex={1}
          label="subject"
          builtIn={builtIn}
          value={parts.subject}
          onChange={(subject) => set({ subject: subject.replace(/\s/g, "") })}
        />
        {has("reach") && (
          <Select
            size="xs"
            w={104}
            label="reach"
            data={REACHES}
            value={parts.reach || "tree"}
            onChange={(reach) => set({ reach: reach ?? "tree" })}
          />
        )}
      </Group>
      {has("rights") && (
        <MultiSelect
          size="xs"
          label="rights"
          data={RIGHT_WORDS}
          value={known}
          searchable
          onChange={(rights) => set({ rights })}
        />
      )}
      <Group gap={8} wrap="nowrap">
        <TextInput
          size="xs"
          w={150}
          type="date"
          label="until"
          value={parts.until}
          onChange={(e) => set({ until: e.currentTarget.value })}
        />
        <NoteInput note={parts.note} put={(note) => set({ note })} />
      </Group>
      <LineInput line={line} put={put} />
      <Text fz="xs" aria-label="What it means">
        {sentence(field, parts) || <span className="quiet">Choose, or type the line.</span>}
      </Text>
    </div>
  );
}

/** Why the line is there; taken over as it is typed, spaces at the end apart. */
function NoteInput({ note, put }: { note: string; put: (note: string) => void }) {
  const [typed, setTyped] = useState(note);
  return (
    <TextInput
      size="xs"
      flex={1}
      label="note"
      value={typed.trim() === note ? typed : note}
      onChange={(e) => {
        setTyped(e.currentTarget.value);
        put(e.currentTarget.value.trim());
      }}
    />
  );
}

function LineInput({ line, put }: { line: string; put: (line: string) => void }) {
  return (
    <TextInput
      size="xs"
      label="as a line"
      classNames={{ input: "mono" }}
      value={line.trimStart()}
      onChange={(e) => put(e.currentTarget.value || " ")}
    />
  );
}
