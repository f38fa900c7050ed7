// The service's API, as core/wire of the service writes it.

export interface Key {
  name: string;
  kind: string;
  fingerprint: string;
  fingerprint_md5: string;
  bitting: string;
  cuts: number[];
  comment: string;
  note: string;
  origin: string;
  public_key: string;
  created_at: string;
  created_by: string;
  reach: number;
  holder: string;
  holder_sort?: string;
  kept_at: string;
  passphrase: string;
  passphrase_at?: string;
  weaknesses?: { name: string; severity: string; sentence: string }[];
  retired: boolean;
  shown_at?: string;
  shown_by?: string;
  evidence_at?: string;
  state: "in use" | "lost" | "exposed";
  state_at?: string;
  state_by?: string;
  state_reason?: string;
}

export interface RouteOffer {
  route: string;
  about: string;
  open: boolean;
  lacking: { what: string; command?: string }[];
  until_in_seconds: number;
  down_seconds: number;
  people?: string;
  charges: Charge[];
  changes: string[];
  can_be_lost: string[];
  to_check: string[];
  sure: string;
  steps: string[];
}

export interface Charge {
  what: string;
  amount: number;
  currency: string;
}

export interface Routes {
  instance: string;
  login_user: string;
  state: string;
  lost: string[];
  offers: RouteOffer[];
}

export interface UpSpan {
  from: string;
  to: string;
  up: boolean;
}

export interface Report {
  work: number;
  instance: string;
  login_user: string;
  operator: string;
  state: string;
  outcome: string;
  lost: string[];
  new: string;
  route: string;
  why: string;
  began_at: string;
  in_at?: string;
  ended_at?: string;
  steps: { name: string; title: string; state: string; began_at?: string; ended_at?: string }[];
  seen: UpSpan[];
  down_seconds: number;
  not_seen_seconds: number;
  changed: string[];
  withdrawn: string[];
  checks: { check: string; good: boolean; said: string }[];
  left: string[];
  charges: Charge[];
  goes_on: string[];
}

export interface Surveyed {
  result: "recorded" | "unrecorded" | "missing" | "expired";
  key: string;
  steward: boolean;
  login_user: string;
  kind: string;
  fingerprint: string;
  comment: string;
  file?: string;
  line?: number;
  options?: string;
  limits?: string;
  ends?: string;
}

export interface OutsideSurvey {
  at: string;
  vantage: string;
  trouble?: string;
  answers: {
    key: string;
    steward: boolean;
    login_user: string;
    fingerprint: string;
    answer: string;
    detail?: string;
    recorded: boolean;
  }[];
  methods: { user: string; methods: string[]; open?: boolean }[];
  rules: string[];
  not_seen: string[];
}

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

export interface Matter {
  id: number;
  urgency: "now" | "soon" | "later";
  reason: string;
  subject: string;
  sentence: string;
  evidence: string;
  command: string;
  instance?: string;
  key?: string;
  since: string;
  off_until?: string;
  off_reason?: string;
  off_by?: string;
}

export interface Today extends Page<Matter> {
  counts: Record<string, number>;
  off: number;
}

export interface FollowsDoor {
  instance: string;
  login_user: string;
  evidence: Access["evidence"];
  old: boolean;
  recorded: boolean;
  others: string[];
  why: string;
}

export interface Follows {
  key: Key;
  shut: FollowsDoor[];
  locked: FollowsDoor[];
  next: string;
}

export interface TimelineEvent {
  at: string;
  until?: string;
  sort: "stood" | "evidence" | "journal";
  what: string;
  instance?: string;
  key?: string;
  from?: string;
  open?: boolean;
}

export interface JournalEntry {
  id: number;
  at: string;
  operator: string;
  address: string;
  action: string;
  target: string;
  intent?: string;
  outcome?: string;
  of?: number;
}

export interface JournalCheck {
  links: number;
  unchained: number;
  unchained_age_seconds: number;
  heads: number;
  breaks: string[];
  owner_role: boolean;
}

export interface MapCell {
  k: number;
  i: number;
  e: Access["evidence"] | "unrecorded";
  old?: boolean;
  age: number;
  sole?: boolean;
}

export interface AccessMap {
  keys: { name: string; fingerprint: string; holder: string; state: string; cuts: number[] }[];
  instances: { name: string; region: string; tags?: Record<string, string> }[];
  cells: MapCell[];
  cut: boolean;
}

export type Ages = Record<"days_1" | "days_7" | "days_30" | "days_90" | "older" | "none", number>;

export interface Holder {
  name: string;
  sort: string;
  keys: number;
}

export interface HostKey {
  type: string;
  fingerprint: string;
  public_key: string;
  source: string;
  recorded_at: string;
  replaced_at?: string;
  replaced_by?: string;
}

export interface HostKeyState {
  recorded: HostKey[];
  former: HostKey[];
  offered?: HostKey;
  problem?: string;
  printed: string[];
  same: boolean;
}

export interface Rule {
  id: string;
  from: string;
  note?: string;
  world?: boolean;
  service?: boolean;
  by?: string;
  at?: string;
  until?: string;
  me?: boolean;
  reason?: string;
  work?: number;
}

export interface RuleGroup {
  id: string;
  name: string;
  own: boolean;
  others: number;
  shared_with: string[];
  rules: Rule[];
}

export interface Finding {
  code: string;
  stage: string;
  sentence: string;
  evidence?: string;
  expected?: string;
  found?: string;
  next?: string;
}

export interface Report {
  user: string;
  key?: string;
  first: Finding | null;
  also: Finding[];
  passed: { code: string; stage: string; sentence: string }[];
  not_seen: string[];
}

export interface Instance {
  name: string;
  state: string;
  phase: string;
  progress?: string;
  trouble?: string;
  region: string;
  image: string;
  size: string;
  cloud: string;
  cloud_id: string;
  address: string;
  port: number;
  login_user: string;
  host_keys?: HostKey[];
  user_data?: string;
  keys: number;
  created_at: string;
  created_by: string;
  zone?: string;
  disk_gb?: number;
  tags?: Record<string, string>;
  adopted?: boolean;
  work?: number;
  addresses?: { address: string; since: string; until?: string; static?: boolean }[];
  keys_files?: string[];
  privilege?: string;
  via?: { address: string; port: number; login_user: string };
  probe_allowed: boolean;
  vanished_at?: string;
  key_label?: string;
}

export interface Work {
  id: number;
  kind: string;
  title: string;
  instance?: string;
  parent?: number;
  state: "queued" | "running" | "waiting" | "done" | "failed" | "cancelled" | "stuck";
  going_back: boolean;
  waves?: boolean;
  restores?: boolean;
  step: number;
  step_count: number;
  step_title?: string;
  steps?: { name: string; title: string; state: string; tries: number }[];
  attempt: number;
  cancel_asked: boolean;
  trouble?: string;
  outcome?: string;
  waits_code?: string;
  waits_for?: string;
  wait_ends_at?: string;
  children?: Record<string, number>;
  operator: string;
  created_at: string;
  ended_at?: string;
}

export interface KeyBefore {
  key: string;
  holder?: string;
  before: string;
  after: string;
}

export interface RotationPlan {
  instance: string;
  login_user: string;
  old: string;
  new: string;
  grace_seconds: number;
  keys: KeyBefore[];
  notes: string[];
}

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

export interface FleetMember {
  instance: string;
  old: string;
  new?: string;
  wave: number;
  state: "to do" | "going" | "shown" | "back later" | "failed" | "left out";
  note?: string;
  sole?: boolean;
  work?: number;
}

export interface FleetPlan {
  members: FleetMember[];
  waves: {
    wave: number;
    all: number;
    to_do: number;
    going: number;
    shown: number;
    later: number;
    failed: number;
  }[];
  word?: string;
  found?: { instance: string; fingerprint: string; comment?: string; since: string }[];
}

export interface WorkEvent {
  n: number;
  at: string;
  step: string;
  text: string;
}

/** Whether a piece of work has ended, for good or until somebody takes it up again. */
export const over = (w: Work) => !["queued", "running", "waiting"].includes(w.state);

export interface Access {
  id: number;
  instance: string;
  region: string;
  login_user: string;
  key: string;
  steward: boolean;
  holder?: string;
  kind: string;
  fingerprint: string;
  public_key: string;
  cuts: number[];
  evidence: "none" | "placed" | "seen" | "accepted" | "proven";
  old: boolean;
  at?: string;
  from?: string;
  against?: { kind: string; at: string; from: string };
  probe?: { answer: string; detail?: string; at: string; from?: string };
  until?: string;
  reason?: string;
}

export interface Region {
  name: string;
  title: string;
  zones: string[];
}

export interface Image {
  name: string;
  title: string;
  login_user: string;
  key_types: string[];
  min_disk_gb: number;
  smallest_size: string;
  regions: string[];
}

export interface Size {
  name: string;
  cpus: number;
  memory_mb: number;
  disk_gb: number;
  regions: string[];
}

export interface Operator {
  name: string;
  role: "viewer" | "operator" | "admin";
}

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
}

export interface LaunchPlan {
  user_data: string;
  login_user: string;
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
  keys: (q: ListQuery) => call<Page<Key>>("GET", "/keys" + query(q)),
  key: (n: string) => call<Key>("GET", "/keys/" + name(n)),
  addKey: (k: { name: string; public_key: string; note: string }) =>
    call<Key>("POST", "/keys", { ...k, made_here: false }),
  recordMade: (k: { name: string; public_key: string; passphrase: string }) =>
    call<Key>("POST", "/keys", { ...k, made_here: true }),
  holders: () => call<Page<Holder>>("GET", "/holders"),
  instances: (q: ListQuery) => call<Page<Instance>>("GET", "/instances" + query(q)),
  instance: (n: string) => call<Instance>("GET", "/instances/" + name(n)),
  launch: (r: LaunchRequest) => call<Instance>("POST", "/instances", { ...r, plan: false }),
  plan: (r: LaunchRequest) => call<LaunchPlan>("POST", "/instances", { ...r, plan: true }),
  stop: (n: string) => call<Instance>("POST", `/instances/${name(n)}/stop`),
  start: (n: string) => call<Instance>("POST", `/instances/${name(n)}/start`),
  remove: (n: string) => call<Instance>("DELETE", "/instances/" + name(n)),
  access: (q: ListQuery) => call<Page<Access>>("GET", "/access" + query({ limit: 200, ...q })),
  why: (n: string, user: string, publicKey: string) =>
    call<{ report: Report }>("POST", `/instances/${name(n)}/why`, {
      user,
      public_key: publicKey,
      seen_as: "",
    }),
  rules: (n: string) => call<{ groups: RuleGroup[] }>("GET", `/instances/${name(n)}/rules`),
  admit: (n: string, from: string, seconds: number, reason: string) =>
    call<Work>("POST", `/instances/${name(n)}/rules`, {
      from: [from],
      me: false,
      world: false,
      shared: false,
      seconds,
      reason,
    }),
  unadmit: (n: string, from: string) =>
    call<Work>("POST", `/instances/${name(n)}/unadmit`, { from: [from], cut_off: 0 }),
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
  restore: (n: string, r: { route: string; new: string }) =>
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
};
