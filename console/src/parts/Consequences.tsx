import { Text } from "@mantine/core";
import type { AccessChange, ItemChange, Preview, SettingChange } from "../api";
import { shown } from "./values";

function several(names: string[], count: number, few = 6): string {
  const rest = count - Math.min(few, names.length);
  return names.slice(0, few).join(", ") + (rest > 0 ? ` and ${rest} more` : "");
}

function plain(value: unknown): string {
  if (value === null || value === undefined) return "none";
  if (typeof value === "boolean") return value ? "yes" : "no";
  return Array.isArray(value) ? value.join(", ") || "none" : String(value);
}

/** One item that differs: added, removed, or the keys that are not the same. */
export function ItemDifference({ item }: { item: ItemChange }) {
  const [a, b] = [item.before, item.after].map((side) =>
    side !== null && typeof side === "object" ? (side as Record<string, unknown>) : null,
  );
  const [sign, style] = item.before === null ? ["+", "good"] : item.after === null ? ["−", "bad"] : ["~", "state-own"];
  const keys = a && b ? [...new Set([...Object.keys(a), ...Object.keys(b)])] : [];
  return (
    <div style={{ marginBottom: 4 }}>
      <span className={style}>{sign}</span> <span className="quiet">{item.section.replace("_", " ")}</span>{" "}
      <b>{item.name}</b>
      {keys
        .filter((key) => JSON.stringify(a?.[key]) !== JSON.stringify(b?.[key]))
        .map((key) => (
          <KeyDifference key={key} name={key} before={a?.[key]} after={b?.[key]} />
        ))}
    </div>
  );
}

function KeyDifference({ name, before, after }: { name: string; before: unknown; after: unknown }) {
  if (Array.isArray(before) || Array.isArray(after)) {
    const [was, is] = [(before ?? []) as string[], (after ?? []) as string[]];
    const lines = [
      ...was.filter((x) => !is.includes(x)).map((x) => ["−", x, "bad"] as const),
      ...is.filter((x) => !was.includes(x)).map((x) => ["+", x, "good"] as const),
    ];
    return lines.map(([sign, line, style]) => (
      <div key={sign + line} style={{ paddingLeft: 16 }} className="mono">
        <span className={style}>{sign}</span> {line}
      </div>
    ));
  }
  return (
    <div style={{ paddingLeft: 16 }}>
      <span className="quiet">{name}</span> {plain(before)} → {plain(after)}
    </div>
  );
}

/** What follows for access: who gains and loses what, where. */
export function AccessChanges({ access }: { access: AccessChange[] }) {
  return access.map((a, i) => {
    const who = several(a.accounts, a.account_count);
    const before = access[i - 1];
    const same = before && several(before.accounts, before.account_count) === who;
    return (
      <div key={a.accounts.join() + a.locations.join() + a.lost.join()} style={{ marginBottom: 8 }}>
        {!same && <b>{who}</b>}
        {(
          [
            ["good", "+ gains", a.gained],
            ["bad", "− loses", a.lost],
            ["good", "+ for more files", a.widened],
            ["bad", "− for fewer files", a.narrowed],
          ] as const
        ).map(
          ([style, label, rights]) =>
            rights.length > 0 && (
              <div key={label} style={{ paddingLeft: 12 }}>
                <span className={style}>{label}</span> {rights.join(", ")}
              </div>
            ),
        )}
        <div style={{ paddingLeft: 12 }} className="mono quiet">
          {several(a.locations, a.location_count)}
        </div>
      </div>
    );
  });
}

export function SettingChanges({ settings }: { settings: SettingChange[] }) {
  return settings.map((s) => (
    <div key={s.name + s.accounts.join()} style={{ marginBottom: 6 }}>
      <b>{several(s.accounts, s.account_count)}</b>
      <div style={{ paddingLeft: 12 }}>
        <span className="mono">{s.name}</span> {shown(s.name, s.before)} → {shown(s.name, s.after)}
      </div>
    </div>
  ));
}

/** Everything that follows from a change, beside it and before it is saved. */
export function Consequences({ preview }: { preview: Preview }) {
  const quiet =
    preview.access.length + preview.settings.length + preview.new_findings.length + preview.mended.length === 0;
  return (
    <div style={{ fontSize: 13 }}>
      {quiet && (
        <Text fz="sm" className="quiet">
          Nobody gains or loses anything, and no finding comes or goes.
        </Text>
      )}
      <AccessChanges access={preview.access} />
      <SettingChanges settings={preview.settings} />
      {preview.new_findings.map((f) => (
        <div key={f.text} style={{ marginBottom: 6 }}>
          <span className="state-own">▲ new finding</span> {f.text}
        </div>
      ))}
      {preview.mended.map((f) => (
        <div key={f.text} style={{ marginBottom: 6 }}>
          <span className="good">✓ mended</span> <span className="quiet">{f.text}</span>
        </div>
      ))}
    </div>
  );
}
