import { Text } from "@mantine/core";
import type { AccessChange, Follows, ItemChange, Room, SettingChange } from "../api";
import { SIZES } from "./declared";
import { textOf } from "./lines";
import { bytesOf, shown, size, sizes } from "./values";

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
    // A unit of which there is only its path to say is told as that.
    typeof side === "string" ? { path: side } : (side as Record<string, unknown> | null),
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
    const [was, is] = [before, after].map((side) => ((side ?? []) as unknown[]).map(textOf)) as [string[], string[]];
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
  const [was, is] = SIZES.has(name) ? [bytesOf(before), bytesOf(after)] : [null, null];
  return (
    <div style={{ paddingLeft: 16 }}>
      <span className="quiet">{name}</span>{" "}
      {was !== null && is !== null ? sizes(was, is) : `${plain(before)} → ${plain(after)}`}
    </div>
  );
}

/** Whose files a right is about, where these are not all. */
function whoseFiles(change: AccessChange, right: string): string {
  if (change.own.includes(right)) return " (own files only)";
  return change.others.includes(right) ? " (others' files only)" : "";
}

/** What follows for access: who gains and loses what, where. */
export function AccessChanges({ access }: { access: AccessChange[] }) {
  return access.map((a, i) => {
    const named = (x: AccessChange) =>
      several(x.accounts, x.account_count) + (x.endpoint ? `, through ${x.endpoint}` : "");
    const who = named(a);
    const before = access[i - 1];
    const same = before && named(before) === who;
    return (
      <div
        key={`${a.endpoint} ${a.accounts.join()} ${a.locations.join()} ${a.lost.join()}`}
        style={{ marginBottom: 8 }}
      >
        {!same && <b>{who}</b>}
        {(
          [
            ["good", a.account_count === 1 ? "+ gains" : "+ gain", a.gained],
            ["bad", a.account_count === 1 ? "− loses" : "− lose", a.lost],
            ["good", "+ for more files", a.widened],
            ["bad", "− for fewer files", a.narrowed],
          ] as const
        ).map(
          ([style, label, rights]) =>
            rights.length > 0 && (
              <div key={label} style={{ paddingLeft: 12 }}>
                <span className={style}>{label}</span> {rights.map((right) => right + whoseFiles(a, right)).join(", ")}
              </div>
            ),
        )}
        <div style={{ paddingLeft: 12 }} className="mono quiet">
          {several(a.locations, a.location_count)}
          {(a.below ?? 0) > 0 && `, and ${a.below} below`}
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
        {s.before_from.length > 0 && s.after_from.length > 0 && s.before_from.join() !== s.after_from.join() && (
          <span className="quiet">
            {" "}
            of {s.after_from.join(", ")}, in the place of {s.before_from.join(", ")}
          </span>
        )}
      </div>
    </div>
  ));
}

function room(value: Room | null): string {
  if (value === null || (value.bytes === null && value.files === null)) return "no limit";
  const parts = [];
  if (value.bytes !== null) parts.push(size(value.bytes));
  if (value.files !== null) parts.push(value.files === 1 ? "1 file" : `${value.files} files`);
  return parts.join(" and ");
}

/** Access, without the details of what comes or goes with an account, or with signing in at an endpoint. */
function foldedAccess(preview: Follows): { rest: AccessChange[]; whole: string[] } {
  const coming = new Map<string, string>();
  const key = (endpoint: string | null, account: string) => `${endpoint ?? ""} ${account}`;
  for (const name of preview.come) coming.set(key(null, name), "gain");
  for (const name of preview.gone) coming.set(key(null, name), "lose");
  for (const s of preview.sign_in)
    for (const name of s.accounts) coming.set(key(s.endpoint, name), s.may ? "gain" : "lose");
  const rest: AccessChange[] = [];
  const whole = new Map<string, Set<string>>();
  for (const a of preview.access) {
    const words = new Set(a.accounts.map((name) => coming.get(key(a.endpoint, name)) ?? coming.get(key(null, name))));
    const word = words.size === 1 ? [...words][0] : undefined;
    if (word === undefined || a.account_count > a.accounts.length) {
      rest.push(a);
      continue;
    }
    const through = `${word}\n${a.endpoint ?? ""}`;
    const names = whole.get(through) ?? new Set();
    for (const name of a.accounts) names.add(name);
    whole.set(through, names);
  }
  const together = new Map<string, string[]>();
  for (const [through, names] of whole) {
    const [word, endpoint] = through.split("\n");
    const does = names.size === 1 ? `${word}s` : word;
    const who = `${several([...names], names.size)} ${does} all that there is`;
    together.set(who, [...(together.get(who) ?? []), endpoint ?? ""]);
  }
  return {
    rest,
    whole: [...together].map(([who, at]) => (at.includes("") ? who : `${who} through ${at.join(", ")}`)),
  };
}

function SignInChanges({ changes }: { changes: Follows["sign_in"] }) {
  const together = new Map<string, { first: Follows["sign_in"][number]; endpoints: string[] }>();
  for (const s of changes) {
    const key = `${several(s.accounts, s.account_count)} ${s.may} ${s.why.replaceAll(s.endpoint, "")}`;
    const there = together.get(key);
    if (there) there.endpoints.push(s.endpoint);
    else together.set(key, { first: s, endpoints: [s.endpoint] });
  }
  return [...together].map(([key, { first, endpoints }]) => (
    <div key={key} style={{ marginBottom: 6 }}>
      <b>{several(first.accounts, first.account_count)}</b>{" "}
      <span className={first.may ? "good" : "bad"}>{first.may ? "+ can now sign in" : "− can no longer sign in"}</span>{" "}
      at {endpoints.join(", ")}
      {first.why && (
        <div className="quiet" style={{ paddingLeft: 12 }}>
          {first.why}
        </div>
      )}
    </div>
  ));
}

/** Everything that follows from a change, beside it and before it is saved. */
export function Consequences({ preview }: { preview: Follows }) {
  const { rest, whole } = foldedAccess(preview);
  return (
    <div style={{ fontSize: 13 }}>
      {preview.notes.map((note) => (
        <div key={note} style={{ marginBottom: 6 }}>
          <span className="state-own">▲</span> {note}
        </div>
      ))}
      {preview.nothing && (
        <Text fz="sm" className="quiet">
          Nothing follows: nobody gains or loses anything, anywhere, and no finding comes or goes.
        </Text>
      )}
      {preview.come_count > 0 && <div>new: {several(preview.come, preview.come_count)}</div>}
      {preview.gone_count > 0 && <div>gone: {several(preview.gone, preview.gone_count)}</div>}
      <SignInChanges changes={preview.sign_in} />
      {whole.map((line) => (
        <div key={line} style={{ marginBottom: 6 }}>
          {line}
        </div>
      ))}
      <AccessChanges access={rest} />
      {preview.on_disk && (
        <section aria-label="With the disk" style={{ marginBottom: 8 }}>
          <b>With what the disk of {preview.on_disk.stores.join(", ")} lets through</b>
          <div style={{ paddingLeft: 12, marginTop: 4 }}>
            <AccessChanges access={preview.on_disk.access} />
            {preview.on_disk.access.length === 0 && (
              <span className="state-own">
                nothing of it: <span className="mono">drawknife disk plan</span> says what the disk would have to let
              </span>
            )}
          </div>
        </section>
      )}
      {preview.leads.map((x) => (
        <div key={x.location + x.before + x.after} style={{ marginBottom: 6 }}>
          <b>{several(x.accounts, x.account_count)}</b>
          <div style={{ paddingLeft: 12 }} className="mono">
            {x.location}: {x.before ?? "nowhere"} → {x.after ?? "nowhere"}
          </div>
        </div>
      ))}
      <SettingChanges settings={preview.settings} />
      {preview.room.map((r) => (
        <div key={r.location + r.accounts.join()} style={{ marginBottom: 6 }}>
          <b>{several(r.accounts, r.account_count)}</b>
          <div style={{ paddingLeft: 12 }}>
            room at <span className="mono">{r.location}</span>: {room(r.before)} → {room(r.after)}
          </div>
        </div>
      ))}
      {preview.for_everybody.length > 0 && (
        <section aria-label="For everybody" style={{ marginBottom: 6 }}>
          <b>For everybody</b>
          {preview.for_everybody.map((line) => (
            <div key={line} style={{ paddingLeft: 12 }}>
              {line}
            </div>
          ))}
        </section>
      )}
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
      {preview.without_effect.map((idle) => (
        <div key={idle.line} style={{ marginBottom: 6 }}>
          <span className="state-own">▲ without effect</span> <span className="mono">{idle.line}</span>
          {idle.reasons.map((reason) => (
            <div key={reason} className="quiet" style={{ paddingLeft: 12 }}>
              as {reason}
            </div>
          ))}
        </div>
      ))}
      {preview.left_out.map((line) => (
        <div key={line} className="quiet">
          {line}
        </div>
      ))}
      {preview.later.map((later) => (
        <section key={later.day} aria-label={`From ${later.day} on`} style={{ marginTop: 10 }}>
          <b>From {later.day} on</b>
          <div style={{ paddingLeft: 12, marginTop: 4 }}>
            <Consequences preview={later.follows} />
          </div>
        </section>
      ))}
    </div>
  );
}
