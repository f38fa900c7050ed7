// The service's API. The types are made of its OpenAPI document ("make generate"); where the
// document says "string", and the console decides by it, the values are named here.

import type { components } from "./generated/api";

type Schemas = components["schemas"];

// Narrow is a type of the document with some fields said more exactly.
type Narrow<T, Fields> = Omit<T, keyof Fields> & Fields;

export type Key = Narrow<
  Schemas["Key"],
  {
    state: "in use" | "lost" | "exposed";
  }
>;

export type RouteOffer = Schemas["RouteOffer"];
export type RehearsalPlan = Schemas["RehearsalPlan"];

export type Charge = Schemas["Charge"];

export type Routes = Schemas["Routes"];

export type UpSpan = Schemas["UpSpan"];

export type Report = Schemas["Report"];

export type Surveyed = Narrow<
  Schemas["Surveyed"],
  {
    result: "recorded" | "unrecorded" | "missing" | "expired";
  }
>;

export type OutsideSurvey = Schemas["OutsideSurvey"];

export interface InsideSurvey {
  at: string;
  vantage: string;
  files: string[];
  not_seen: string[];
  broken: string[];
  ignored: string[];
  config: string[];
  doors: string[];
  lying: { file: string; fingerprint?: string; key?: string }[];
  keys: Surveyed[];
}

interface LastOf<S, R> {
  instance: string;
  sort: S;
  tried_at: string;
  seen_at?: string;
  trouble?: string;
  vantage?: string;
  recorded: number;
  unrecorded: number;
  missing: number;
  expired: number;
  report: Partial<R>;
}

export type LastSurvey =
  LastOf<"inside" | "client" | "config", InsideSurvey> | LastOf<"outside", OutsideSurvey>;

export type Matter = Narrow<
  Schemas["Matter"],
  {
    urgency: "now" | "soon" | "later";
  }
>;

export type Today = Narrow<Schemas["Today"], { items: Matter[] }>;

export type FollowsDoor = Narrow<
  Schemas["FollowsDoor"],
  {
    evidence: Access["evidence"];
  }
>;

export type Follows = Narrow<
  Schemas["Follows"],
  {
    key: Key;
    shut: FollowsDoor[];
    locked: FollowsDoor[];
  }
>;

export type TimelineEvent = Narrow<
  Schemas["TimelineEvent"],
  {
    sort: "stood" | "evidence" | "journal";
  }
>;

export type JournalEntry = Schemas["JournalEntry"];

export type JournalCheck = Schemas["JournalCheck"];

export type MapCell = Narrow<
  Schemas["MapCell"],
  {
    e: Access["evidence"] | "unrecorded";
  }
>;

export type AccessMap = Narrow<
  Schemas["AccessMap"],
  {
    cells: MapCell[];
  }
>;

export type Ages = Record<"days_1" | "days_7" | "days_30" | "days_90" | "older" | "none", number>;

export type Holder = Schemas["Holder"];

export type HostKey = Schemas["HostKey"];

export type HostKeyState = Schemas["HostKeyState"];

export type Rule = Schemas["Rule"];

export type RuleGroup = Schemas["RuleGroup"];

export type Finding = Schemas["WhyFinding"];

export type WhyReport = Schemas["WhyReport"];

export type Instance = Schemas["Instance"];
export type Agent = Schemas["Agent"];
export type Stream = Schemas["Stream"];
export type StreamBegun = Schemas["StreamBegun"];
export type Lent = Schemas["Lent"];
export type FirstPassword = Schemas["FirstPassword"];

export type Work = Narrow<
  Schemas["Work"],
  {
    state: "queued" | "running" | "waiting" | "done" | "failed" | "cancelled" | "stuck";
  }
>;

export type KeyBefore = Schemas["KeyBefore"];

export type RotationPlan = Schemas["RotationPlan"];

export interface RotateRequest {
  old: string;
  new: string;
  grace_seconds: number;
}

export interface FleetRequest {
  key?: string;
  tag?: string;
  new: string;
  grace_seconds?: number;
  first?: number;
  at_most?: string;
  exposed?: boolean;
  contain?: string[];
}

export type FleetMember = Narrow<
  Schemas["FleetMember"],
  {
    state: "to do" | "going" | "shown" | "back later" | "failed" | "left out";
  }
>;

export type FleetPlan = Narrow<
  Schemas["FleetPlan"],
  {
    members: FleetMember[];
  }
>;

export type BookItem = Schemas["KeybookItem"];

export type Difference = Schemas["KeybookDifference"];

export type Compared = Narrow<Schemas["KeybookCompared"], { difference: Difference | null }>;

export type Book = Schemas["Keybook"];

/** A text of a keybook: its files, and the public halves beside it. */
export interface BookText {
  files: Schemas["KeybookSource"][];
  publics?: Record<string, string>;
}

export interface SettleBook extends BookText {
  compared: string;
  withdraw: number;
  cut_off: number;
  launch: boolean;
  version: string;
}

export type WorkEvent = Schemas["WorkEvent"];

/** Whether a piece of work has ended, for good or until somebody takes it up again. */
export const over = (w: Work) => !["queued", "running", "waiting"].includes(w.state);

export type Access = Narrow<
  Schemas["Access"],
  {
    evidence: "none" | "placed" | "seen" | "accepted" | "proven";
  }
>;

export type Sighted = Schemas["Sighted"];

export type Opening = Narrow<Schemas["Opening"], { keys: Access[] }>;

export type Opens = Narrow<Schemas["Opens"], { access: Access[] }>;

export type Region = Schemas["Region"];

export type Image = Schemas["Image"];

export type Size = Schemas["Size"];

export type Price = Schemas["Price"];

export type StaticAddress = Schemas["StaticAddress"];

export type Token = Schemas["Token"];
export type Discovered = Schemas["Discovered"];
export type Discovery = Schemas["Discovery"];
export type KeyEntry = Schemas["KeyEntry"];
export type KeyList = Schemas["KeyList"];
export type KeyLists = Schemas["KeyLists"];

export type OperatorKey = Schemas["OperatorKey"];

export type Policy = Schemas["Policy"];

export type Operator = Narrow<
  Schemas["Operator"],
  {
    role: "viewer" | "operator" | "admin";
  }
>;

export interface Page<T> {
  items: T[];
  next_cursor?: string;
}

export interface LaunchRequest {
  name: string;
  region: string;
  image: string;
  size: string;
  keys: string[];
  no_key: boolean;
  zone?: string;
  disk_gb?: number;
  tags?: Record<string, string>;
  user_data?: string;
  static_address?: string;
  cloud_key?: string;
  agent_verbs?: string[];
}

export interface LaunchPlan {
  user_data: string;
  login_user: string;
  price?: Price;
  seconds?: number;
  warnings: string[] | null;
}

/** What the service answered to a request that failed (RFC 9457), or that it did not answer. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly type: string,
    message: string,
    readonly field?: string,
  ) {
    super(message);
  }
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response;
  try {
    response = await fetch("/api/v1" + path, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
      credentials: "same-origin",
    });
  } catch {
    throw new Problem(0, "", `The service at ${location.origin} does not answer.`);
  }
  if (response.status === 204) {
    return undefined as T;
  }
  const data: unknown = await response.json().catch(() => null);
  if (!response.ok) {
    const p = (data ?? {}) as { type?: string; title?: string; detail?: string; field?: string };
    throw new Problem(
      response.status,
      p.type ?? "",
      p.detail ?? p.title ?? response.statusText,
      p.field,
    );
  }
  return data as T;
}

function query(q: Record<string, string | number | undefined>): string {
  const params = new URLSearchParams();
  for (const [k, v] of Object.entries(q)) {
    if (v !== undefined && v !== "") {
      params.set(k, String(v));
    }
  }
  const s = params.toString();
  return s === "" ? "" : "?" + s;
}

export type ListQuery = Record<string, string | number | undefined>;

const name = encodeURIComponent;

export const api = {
  whoAmI: () => call<Operator>("GET", "/session"),
  signIn: (operator: string, password: string) =>
    call<Operator>("POST", "/session", { operator, password }),
  signOut: () => call<void>("DELETE", "/session"),
  redeem: (code: string) => call<Operator>("POST", "/session/redeem", { code }),
  setPassword: (password: string, fresh: string) =>
    call<void>("PUT", "/session/password", { password, new: fresh }),
  tokens: () => call<Page<Token>>("GET", "/tokens"),
  createToken: (n: string, role: string, seconds: number) =>
    call<Token>("POST", "/tokens", { name: n, role, seconds }),
  revokeToken: (id: number) => call<void>("DELETE", `/tokens/${id}`),
  compareBook: (text: BookText) => call<Compared>("POST", "/keybooks/compare", text),
  settleBook: (r: SettleBook) => call<Work>("POST", "/keybooks", r),
  books: () => call<Page<Book>>("GET", "/keybooks" + query({ limit: 50 })),
  book: (work: number) => call<Book>("GET", `/keybooks/${work}`),
  operators: () => call<Page<Operator>>("GET", "/operators"),
  addOperator: (o: { name: string; role: string; public_key?: string }) =>
    call<Operator>("POST", "/operators", o),
  changeOperator: (n: string, change: { role?: string; disabled?: boolean }) =>
    call<void>("PATCH", "/operators/" + name(n), change),
  operatorKeys: (n: string) => call<Page<OperatorKey>>("GET", `/operators/${name(n)}/keys`),
  policy: () => call<Policy>("GET", "/policy"),
  setPolicy: (text: string, check: boolean) =>
    call<Policy>("PUT", "/policy" + query({ check: check ? "true" : "" }), { text }),
  keys: (q: ListQuery) => call<Page<Key>>("GET", "/keys" + query(q)),
  key: (n: string) => call<Key>("GET", "/keys/" + name(n)),
  addKey: (k: { name: string; public_key: string; note: string }) =>
    call<Key>("POST", "/keys", { ...k, made_here: false }),
  recordMade: (k: { name: string; public_key: string; passphrase: string }) =>
    call<Key>("POST", "/keys", { ...k, made_here: true }),
  holders: () => call<Page<Holder>>("GET", "/holders"),
  instances: (q: ListQuery) => call<Page<Instance>>("GET", "/instances" + query(q)),
  instance: (n: string) => call<Instance>("GET", "/instances/" + name(n)),
  discovery: () => call<Discovery>("GET", "/discovery"),
  adoptFound: (id: string) => call<Instance>("POST", "/discovery/adoptions", { cloud_id: id }),
  launch: (r: LaunchRequest) => call<Instance>("POST", "/instances", { ...r, plan: false }),
  plan: (r: LaunchRequest) => call<LaunchPlan>("POST", "/instances", { ...r, plan: true }),
  stop: (n: string) => call<Instance>("POST", `/instances/${name(n)}/stop`),
  passwordChanged: (n: string) =>
    call<FirstPassword>("POST", `/instances/${name(n)}/password/changed`),
  start: (n: string) => call<Instance>("POST", `/instances/${name(n)}/start`),
  remove: (n: string) => call<Instance>("DELETE", "/instances/" + name(n)),
  opening: (n: string) => call<Opening>("GET", `/instances/${encodeURIComponent(n)}/opening`),
  opens: (key: string) => call<Opens>("GET", "/opens" + query({ key })),
  access: (q: ListQuery) => call<Page<Access>>("GET", "/access" + query({ limit: 200, ...q })),
  why: (n: string, user: string, publicKey: string) =>
    call<Schemas["WhyAnswer"]>("POST", `/instances/${name(n)}/why`, {
      user,
      public_key: publicKey,
      seen_as: "",
    }),
  openStream: (n: string, reason: string) =>
    call<StreamBegun>("POST", `/instances/${name(n)}/streams`, { reason }),
  streams: (instance: string) =>
    call<Page<Stream>>("GET", "/streams" + query({ instance, open: "true" })),
  sessionKey: (id: number, publicKey: string) =>
    call<Work>("POST", `/streams/${id}/key`, { public_key: publicKey }),
  lendKey: (n: string, publicKey: string, reason: string) =>
    call<Lent>("POST", `/instances/${name(n)}/lend`, { public_key: publicKey, reason }),
  sessionBegan: (id: number) => call<Work>("DELETE", `/streams/${id}/key`),
  endStream: (id: number) => call<void>("DELETE", `/streams/${id}`),
  agent: (n: string) => call<Agent>("GET", `/instances/${name(n)}/agent`),
  rules: (n: string) => call<{ groups: RuleGroup[] }>("GET", `/instances/${name(n)}/rules`),
  admit: (n: string, from: string, ports: string, seconds: number, reason: string) =>
    call<Work>("POST", `/instances/${name(n)}/rules`, {
      from: [from],
      ports,
      me: false,
      world: false,
      shared: false,
      seconds,
      reason,
    }),
  unadmit: (n: string, from: string, ports: string) =>
    call<Work>("POST", `/instances/${name(n)}/unadmit`, { from: [from], ports, cut_off: 0 }),
  hostKey: (n: string) => call<HostKeyState>("GET", `/instances/${name(n)}/host-key`),
  acceptHostKey: (n: string, fingerprint: string) =>
    call<HostKeyState>("POST", `/instances/${name(n)}/host-key`, {
      fingerprint,
      from_boot_log: false,
    }),
  bootLog: (n: string) => call<{ text: string }>("GET", `/instances/${name(n)}/boot-log`),
  today: (q: ListQuery) => call<Today>("GET", "/today" + query(q)),
  putOff: (id: number, until: string | null, reason: string) =>
    call<Matter>("POST", `/today/${id}/off`, { until, reason }),
  survey: (n: string, inside: boolean, outside: boolean) =>
    call<unknown>("POST", `/instances/${name(n)}/survey`, { inside, outside }),
  lastSurveys: (n: string) => call<Page<LastSurvey>>("GET", `/instances/${name(n)}/surveys`),
  recordAccess: (n: string, fingerprint: string, user: string, keyName: string) =>
    call<Key>("POST", `/instances/${name(n)}/record-access`, { fingerprint, user, name: keyName }),
  timeline: (what: "keys" | "instances", n: string) =>
    call<Page<TimelineEvent>>("GET", `/${what}/${name(n)}/timeline`),
  badDay: (n: string, state: string, reason: string, plan: boolean) =>
    call<Follows>("POST", `/keys/${name(n)}/bad-day`, { state, reason, plan }),
  journal: (q: ListQuery) => call<Page<JournalEntry>>("GET", "/journal" + query(q)),
  verifyJournal: () => call<JournalCheck>("POST", "/journal/verify"),
  accessMap: (q: ListQuery) => call<AccessMap>("GET", "/access-map" + query(q)),
  ages: () => call<Ages>("GET", "/evidence-ages"),
  workList: (q: ListQuery) => call<Page<Work>>("GET", "/work" + query(q)),
  work: (id: number) => call<Work>("GET", `/work/${id}`),
  workEvents: (id: number) => `/api/v1/work/${id}/events`,
  cancelWork: (id: number) => call<Work>("POST", `/work/${id}/cancel`),
  rotationPlan: (n: string, r: RotateRequest) =>
    call<RotationPlan>("POST", `/instances/${name(n)}/rotation-plan`, r),
  rotate: (n: string, r: RotateRequest) => call<Work>("POST", `/instances/${name(n)}/rotate`, r),
  routes: (n: string) => call<Routes>("POST", `/instances/${name(n)}/routes`, { ask: true }),
  planRehearsal: (n: string, route: string) =>
    call<RehearsalPlan>("POST", `/instances/${name(n)}/rehearsals/plan`, { route }),
  rehearse: (n: string, route: string, twice: boolean) =>
    call<Work>("POST", `/instances/${name(n)}/rehearsals`, { route, twice }),
  restore: (n: string, r: { route: string; new: string; keep_seconds?: number; still?: boolean }) =>
    call<Work>("POST", `/instances/${name(n)}/restore`, r),
  report: (id: number) => call<Report>("GET", `/work/${id}/report`),
  planFleet: (r: FleetRequest) => call<FleetPlan>("POST", "/rotations/plan", r),
  rotateMany: (r: FleetRequest) => call<Work>("POST", "/rotations", r),
  fleet: (id: number) => call<FleetPlan>("GET", `/work/${id}/fleet`),
  pause: (id: number) => call<Work>("POST", `/work/${id}/pause`),
  goOn: (id: number) => call<Work>("POST", `/work/${id}/go-on`),
  giveWord: (id: number) => call<Work>("POST", `/work/${id}/word`, {}),
  retryWork: (id: number) => call<Work>("POST", `/work/${id}/retry`),
  regions: () => call<Page<Region>>("GET", "/regions"),
  images: () => call<Page<Image>>("GET", "/images"),
  sizes: () => call<Page<Size>>("GET", "/sizes"),
  keyLists: () => call<KeyLists>("POST", "/cloud-keys/look", {}),
  listKey: (key: string, regions: string[]) => call<Work>("POST", "/cloud-keys", { key, regions }),
  unlistKey: (name: string, regions: string[]) =>
    call<Work>("POST", "/cloud-keys/removals", { name, regions }),
  staticAddresses: () => call<Page<StaticAddress>>("GET", "/static-addresses"),
};
