/** The service's API. Its types are generated from its own description: see tools/description.py. */

import createClient from "openapi-fetch";
import type { components, paths } from "./generated/api.gen";
import declared from "./generated/kinds.json";
import { ofThePast } from "./past";

type Schemas = components["schemas"];
export type Access = Schemas["AccessAnswer"];
export type AccessChange = Schemas["AccessChangeMessage"];
export type AccessRow = Schemas["AccessRow"];
export type Account = Schemas["AccountLine"];
export type Answer = Schemas["Answer"];
export type Certificate = Schemas["CertificateAnswer"];
export type Change = Schemas["Change"];
export type ChangeKind = Change["kind"];
export type Comparison = Schemas["CompareAnswer"];
export type Credentials = Schemas["Credentials"];
export type Administrator = Schemas["AdministratorLine"];
export type Directory = Schemas["DirectoryLine"];
export type Draft = Schemas["DraftAnswer"];
export type DraftLine = Schemas["DraftLine"];
export type MendQuestion = Omit<Schemas["MendQuestion"], "stop" | "most">;
export type Mends = Schemas["MendsAnswer"];
export type Pattern = Schemas["PatternMessage"];
export type Idle = Schemas["IdleAnswer"];
export type Report = Schemas["Report"];
export type ReportLine = Schemas["ReportLine"];
export type ReportRow = Schemas["ReportRow"];
export type Role = NonNullable<Schemas["AdministratorChange"]["role"]>;
export type SignedIn = Schemas["SignedIn"];
export type Token = Schemas["TokenLine"];
export type Endpoint = Schemas["EndpointLine"];
export type Explanation = Schemas["ExplanationMessage"];
export type Fault = Schemas["Fault"];
export type FilledLimit = Schemas["FilledLimit"];
export type Finding = Schemas["FindingMessage"];
export type Folder = Schemas["FolderAnswer"];
export type GroupLine = Schemas["GroupLine"];
export type ItemChange = Schemas["ItemChange"];
export type Journal = Schemas["JournalPage"];
export type Judgement = Schemas["JudgementMessage"];
export type LeadsChange = Schemas["LeadsChangeMessage"];
export type Line = Schemas["LineMessage"];
export type Limit = Schemas["LimitMessage"];
export type Limits = Schemas["LimitList"];
export type Listing = Schemas["ListingAnswer"];
export type MapWindow = Schemas["MapAnswer"];
export type Obstacle = Schemas["Obstacle"];
export type Overview = Schemas["Overview"];
export type Follows = Schemas["Follows"];
export type Preview = Schemas["Preview"];
export type DriftLine = Schemas["DriftLine"];
export type Named = Schemas["Named"];
export type Inside = Schemas["InsideAnswer"];
export type RehearsalLog = Schemas["RehearsalLog"];
export type RehearsalLine = Schemas["KeptRehearsalLine"];
export type TrialLine = Schemas["TrialLine"];
export type PromiseLine = Schemas["PromiseLine"];
export type Reach = Schemas["ReachAnswer"];
export type RoomChange = Schemas["RoomChangeMessage"];
export type Room = NonNullable<RoomChange["before"]>;
export type SettingChange = Schemas["SettingChangeMessage"];
export type SignInChange = Schemas["SignInChangeMessage"];
export type Standing = Schemas["StandingAnswer"];
export type Store = Schemas["StoreLine"];
export type SubjectDetail = Schemas["SubjectDetail"];
export type SyncReport = Schemas["SyncReport"];
export type UnitLine = Schemas["UnitLine"];
export type Used = Schemas["UsedLine"];
export type VirtualPath = Schemas["VirtualPathLine"];
export type Who = Schemas["WhoAnswer"];
export type Kind = AccessRow["kind"];
export type State = Who["holders"][number]["state"];
export type Item = Record<string, unknown>;
export type Right = string;
export const RIGHTS: readonly Right[] = declared.rights;

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

const client = createClient<paths, "application/json">({
  baseUrl: globalThis.location?.origin ?? "http://console",
  credentials: "same-origin",
  headers: { "X-Drawknife-Console": "1" },
  // Looked up at each call, as the tests put another in its place.
  fetch: (request) => fetch(request),
  // What is not given is not sent, nor what is empty.
  querySerializer: (query) =>
    new URLSearchParams(
      Object.entries(query)
        .filter(([, value]) => value !== undefined && value !== null && value !== "")
        .map(([key, value]) => [key, String(value)]),
    ).toString(),
});
client.use({
  async onRequest({ request }) {
    const address = ofThePast(request.url);
    if (address === request.url) return undefined;
    // Made of its parts: a browser takes no other request's body as it is.
    const { method, headers, credentials, signal } = request;
    const body = method === "GET" ? undefined : await request.text();
    return new Request(address, { method, headers, credentials, signal, body });
  },
  async onResponse({ response }) {
    if (response.ok) return;
    const data = await response.json().catch(() => null);
    throw new Problem(response.status, data?.detail ?? response.statusText, data?.title, data?.places);
  },
  onError({ error }) {
    if (error instanceof Problem) return error;
    return new Problem(0, "The service does not answer. It may have been stopped.", "No service");
  },
});
export const { GET, POST, PUT, PATCH, DELETE } = client;

/** What the service answers to a call; a Problem is thrown where it does not. */
export async function answer<T>(call: Promise<{ data?: T }>): Promise<T> {
  return (await call).data as T;
}

/** Headers of a change that was made for this revision, and is refused if another is in force meanwhile. */
export const onlyAt = (revision?: number) => (revision === undefined ? {} : { "If-Match": `"${revision}"` });

/** A name as a part of an address. */
export const named = (name: string) => encodeURIComponent(name);

/** What a question about a right at a location acts on: something in it, or the folder itself. */
export function examplePath(location: string, right: Right): string {
  const inside = (name: string) => (location === "/" ? `/${name}` : `${location}/${name}`);
  if (right === "make-folder") return inside("new-folder");
  return ["enter", "list", "delete-folder"].includes(right) ? location : inside("any-file");
}
