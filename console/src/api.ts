/** What the service says, in its own words; see docs/reference and /api/v1/openapi.json. */

export const RIGHTS = [
  "enter",
  "list",
  "download",
  "upload",
  "overwrite",
  "append",
  "rename",
  "delete-file",
  "make-folder",
  "delete-folder",
  "set-attributes",
] as const;
export type Right = (typeof RIGHTS)[number];
export type State = "yes" | "own" | "others" | "no";
export type Kind = "synthetic" | "virtual path" | "folder";

export interface Account {
  name: string;
  kind: string;
  display: string | null;
  mail: string | null;
  unit: string | null;
  enabled: boolean;
  expires: string | null;
  expired: boolean;
  source: string;
}
export interface AccountDetail extends Account {
  home: string | null;
  methods: string[];
  groups: string[];
}
export interface Standing {
  account: AccountDetail;
  standing: { subject: string; class: number; distance: number; chain: string[] }[];
  settings: {
    name: string;
    value: unknown;
    subjects: string[];
    chains: string[][];
    overruled: string[];
    undecided: boolean;
  }[];
}
export interface AccessRow {
  location: string;
  kind: Kind;
  place: string | null;
  rights: Record<Right, State>;
}
export interface Access {
  account: string;
  endpoint: string | null;
  notes: string[];
  total: number;
  rows: AccessRow[];
  not_served: { path: string; reason: string; text: string }[];
}
export interface Obstacle {
  gate: string;
  reason: string;
  text: string;
}
export interface Judgement {
  right: string;
  place: string;
  own: boolean | null;
  allowed: boolean;
  reason: string;
  text: string;
  decided_at: string | null;
  decided_by: string | null;
  levels: {
    place: string;
    up: number;
    sealed: boolean;
    recorded: boolean;
    owner: string | null;
    entries: { entry: string; fate: string; by: string | null; chain: string[] }[];
  }[];
}
export interface Explanation {
  obstacles: Obstacle[];
  locations: {
    location: string;
    place: string | null;
    virtual_path: string | null;
    ceiling: string | null;
    grants: string[];
    synthetic: boolean;
  }[];
  gates: { gate: string; asked: boolean; obstacles: Obstacle[]; notes: string[] }[];
  checks: { passing: { place: string; allowed: boolean }[]; judgement: Judgement; blocked: Judgement[] }[];
}
export interface Answer {
  allowed: boolean;
  gate: string | null;
  reason: string;
  text: string;
  explanation: Explanation | null;
}
export interface Question {
  account: string;
  action: string;
  path: string;
  owner?: string;
  endpoint?: string;
  from?: string;
  tls?: boolean;
  method?: string;
  explain?: boolean;
}
export interface Who {
  right: string;
  at: string;
  total: number;
  but_for: string | null;
  holders: {
    account: string;
    state: State;
    location: string;
    virtual_path: string | null;
    place: string | null;
    decided_at: string | null;
    decided_by: string | null;
    chain: string[];
  }[];
  almost: { account: string; location: string | null; obstacles: Obstacle[] }[];
}
export interface MapWindow {
  total_accounts: number;
  total_locations: number;
  accounts: string[];
  locations: string[];
  cells: (string | null)[][];
}
export interface Comparison {
  one: string;
  other: string;
  total: number;
  differences: {
    location: string;
    right: string;
    one: State | null;
    other: State | null;
    why_one: string;
    why_other: string;
  }[];
}
export interface Listing {
  location: string;
  allowed: boolean;
  text: string;
  folders: { name: string; location: string; kind: Kind; place: string | null }[];
}
export interface Folder {
  place: string;
  recorded: boolean;
  sealed: boolean;
  owner: string | null;
  entries: string[];
  above: Judgement["levels"];
  locations: string[];
  folders: {
    name: string;
    place: string;
    recorded: boolean;
    sealed: boolean;
    owner: string | null;
    entries: number;
  }[];
}
export interface Store {
  name: string;
  root: string | null;
  baseline: string;
  capacity: number | null;
  folders: number;
  entries: number;
}
export interface VirtualPath {
  path: string;
  leads_to: string;
  listing: string;
  grants: string[];
}
export interface Endpoint {
  name: string;
  protocol: string;
  address: string;
  port: number;
  passive_ports: string | null;
  tls: string | null;
  host_names: string[];
  enabled: boolean;
  entries: string[];
  never: string[];
  only: string[] | null;
  sessions_allowed: number | null;
  starts: boolean;
  clash: string | null;
}
export interface Overview {
  revision: number;
  counts: Record<string, number>;
  findings: { kind: string; about: string; text: string }[];
}
export interface Journal {
  total: number;
  lines: {
    id: number;
    revision: number | null;
    at: string;
    who: string;
    what: string;
    followed: string[] | null;
    item_count: number;
    items: ItemChange[];
  }[];
}
export type Item = Record<string, unknown>;
export interface Change {
  op: "add" | "change" | "rename" | "remove";
  kind: string;
  name?: string;
  item?: Item;
  set?: Item;
  to?: string;
  everywhere?: boolean;
}
export interface AccessChange {
  accounts: string[];
  account_count: number;
  locations: string[];
  location_count: number;
  gained: string[];
  lost: string[];
  widened: string[];
  narrowed: string[];
  endpoint: string | null;
}
export interface SettingChange {
  accounts: string[];
  account_count: number;
  name: string;
  before: unknown;
  after: unknown;
  before_from: string[];
  after_from: string[];
}
export interface SignInChange {
  accounts: string[];
  account_count: number;
  endpoint: string;
  may: boolean;
  why: string;
}
export interface LeadsChange {
  accounts: string[];
  account_count: number;
  location: string;
  before: string | null;
  after: string | null;
}
export interface Room {
  bytes: number | null;
  files: number | null;
}
export interface RoomChange {
  accounts: string[];
  account_count: number;
  location: string;
  before: Room | null;
  after: Room | null;
}
export interface ItemChange {
  section: string;
  name: string;
  before: unknown;
  after: unknown;
}
export interface Finding {
  kind: string;
  about: string;
  text: string;
}
export interface Preview {
  revision: number;
  item_count: number;
  items: ItemChange[];
  nothing: boolean;
  summary: string[];
  come: string[];
  come_count: number;
  gone: string[];
  gone_count: number;
  sign_in: SignInChange[];
  access: AccessChange[];
  leads: LeadsChange[];
  settings: SettingChange[];
  room: RoomChange[];
  new_findings: Finding[];
  mended: Finding[];
  without_effect: { line: string; reasons: string[] }[];
  notes: string[];
  left_out: string[];
}
/** A change that was made, and what followed from it. */
export interface Changed {
  revision: number;
  changed: boolean;
  followed: string[];
  notes: string[];
}
export interface GroupLine {
  name: string;
  source: string;
  members: string[];
  accounts: number;
  held_by: string[];
}
export interface UnitLine {
  path: string;
  source: string;
  accounts: number;
  all_accounts: number;
  held_by: string[];
}
export interface SubjectDetail {
  subject: string;
  source: string;
  members: string[];
  held_by: string[];
  total: number;
  accounts: { account: string; display: string | null; distance: number; chain: string[] }[];
  gives: { kind: string; where: string; line: string; chain: string[] }[];
  settings: { name: string; value: unknown; reaches: string[]; nearer: { account: string; subjects: string[] }[] }[];
}
export interface SyncReport {
  directory: string;
  at: string;
  who: string;
  state: "preview" | "done" | "nothing-to-do" | "refused" | "failed";
  text: string;
  people: number;
  groups: number;
  units: number;
  counts: Record<string, number>;
  named: Record<string, string[]>;
  left_alone: string[];
  left_out: string[];
  notes: string[];
}
export interface Reach {
  endpoint: string;
  client: string;
  inside: boolean | null;
  control: boolean;
  data: boolean;
  way: string;
  missing: string[];
}
export interface Certificate {
  file: string;
  looked_at: string | null;
  problem: string | null;
  names: string[];
  valid_from: string | null;
  valid_until: string | null;
  days_left: number | null;
  key_matches: boolean | null;
  warnings: string[];
}
export interface Limit {
  kind: string;
  name: string;
  called: string;
  place: string;
  hard_bytes: number | null;
  soft_bytes: number | null;
  hard_files: number | null;
  soft_files: number | null;
  used_bytes: number;
  used_files: number;
  room_bytes: number | null;
  room_files: number | null;
  grace_ends: string | null;
}
export interface Used {
  name: string;
  bytes: number;
  files: number;
}
export interface FilledLimit extends Limit {
  accounts: Used[];
  folders: Used[];
  history: { at: string; bytes: number; files: number }[];
  growth: {
    what: string;
    per_day: number;
    reached: string | null;
    soonest: string | null;
    latest: string | null;
    measurements: number;
  }[];
}
export interface Limits {
  limits: FilledLimit[];
  promised: { store: string; given: number; capacity: number; unlimited_accounts: number }[];
}
export interface Directory {
  name: string;
  options: Record<string, string | number | boolean | null>;
  has_password: boolean;
  accounts: number;
  groups: number;
  units: number;
  last: SyncReport | null;
}

export interface Fault {
  where: string;
  message: string;
  expected?: string;
  line?: number;
  nearest?: string;
}

/** A problem as the service tells it (RFC 9457), with each mistake's place. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly title = "",
    readonly places: Fault[] = [],
  ) {
    super(detail);
  }
}

type Query = Record<string, string | number | undefined | null>;

/** `revision`: the change was made for this one, and is refused if another is in force meanwhile. */
export async function ask<T>(
  method: string,
  path: string,
  query: Query = {},
  body?: unknown,
  revision?: number,
): Promise<T> {
  const given = Object.entries(query).filter(([, value]) => value !== undefined && value !== null && value !== "");
  const search = new URLSearchParams(given.map(([key, value]) => [key, String(value)])).toString();
  let response: Response;
  try {
    response = await fetch(`/api/v1${path}${search ? `?${search}` : ""}`, {
      method,
      credentials: "same-origin",
      headers: {
        "X-Drawknife-Console": "1",
        ...(body === undefined ? {} : { "Content-Type": "application/json" }),
        ...(revision === undefined ? {} : { "If-Match": `"${revision}"` }),
      },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, "The service does not answer. It may have been stopped.", "No service");
  }
  if (response.status === 204) return undefined as T;
  const data = await response.json().catch(() => null);
  if (response.ok) return data as T;
  throw new Problem(response.status, data?.detail ?? response.statusText, data?.title, data?.places);
}

export const get = <T>(path: string, query?: Query) => ask<T>("GET", path, query);
export const named = (name: string) => encodeURIComponent(name);

/** What a question about a right at a location acts on: something in it, or the folder itself. */
export function examplePath(location: string, right: Right): string {
  const inside = (name: string) => (location === "/" ? `/${name}` : `${location}/${name}`);
  if (right === "make-folder") return inside("new-folder");
  return ["enter", "list", "delete-folder"].includes(right) ? location : inside("any-file");
}
