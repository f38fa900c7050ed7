// Every question that a page asks the service, with the key that it is kept under; and what a
// change makes old.
//
// A key begins with what the answer is about, so that a change names that and nothing else.
// Pages ask again by themselves only slowly. While something is going on they hear of it by the
// events of its work (see useEvents in work.tsx), which make old what they change.
import { keepPreviousData, type QueryClient, queryOptions } from "@tanstack/react-query";
import {
  type Access,
  api,
  type FleetRequest,
  type ListQuery,
  Problem,
  type RotateRequest,
} from "./api";

const seldom = 60_000;
const slowly = 15_000;
const sometimes = 10_000;

/** How often, in ms, a page asks again beside the events, while something is going on. */
export const meanwhile = 3_000;

/** Every access of an instance or of a key, following the cursors to the end. */
async function everyAccess(q: { instance?: string; key?: string }): Promise<Access[]> {
  const rows: Access[] = [];
  let cursor: string | undefined;
  do {
    const page = await api.access({ ...q, cursor });
    rows.push(...page.items);
    cursor = page.next_cursor;
  } while (cursor);
  return rows;
}

/** What a launch can choose from, in one go. */
const launchChoices = async () => {
  const [regions, images, sizes, addresses, keys] = await Promise.all([
    api.regions(),
    api.images(),
    api.sizes(),
    api.staticAddresses(),
    api.keys({ limit: 500, state: "in use" }),
  ]);
  return {
    regions: regions.items,
    images: images.items,
    sizes: sizes.items,
    addresses: addresses.items,
    addressPrice: addresses.items.find((a) => a.price)?.price,
    keys: keys.items,
  };
};

/** Who is signed in: by a code in the address, which the client made, or by the session's cookie. */
const arrived = async () => {
  const code = new URLSearchParams(location.hash.slice(1)).get("code");
  if (code) {
    // It is good once; nobody shall find it in the history.
    history.replaceState(null, "", location.pathname + location.search);
    return api.redeem(code);
  }
  return api.whoAmI();
};

const again = { placeholderData: keepPreviousData };

export const queries = {
  session: () =>
    queryOptions({
      queryKey: ["session"],
      queryFn: () =>
        arrived().catch((e: unknown) => {
          if (e instanceof Problem && e.status === 401) {
            return null;
          }
          throw e;
        }),
      staleTime: Infinity,
    }),

  regions: () => queryOptions({ queryKey: ["regions"], queryFn: api.regions, staleTime: seldom }),
  holders: () => queryOptions({ queryKey: ["holders"], queryFn: api.holders, staleTime: seldom }),

  keys: (q: ListQuery) =>
    queryOptions({ queryKey: ["keys", "list", q], queryFn: () => api.keys(q), ...again }),
  key: (name: string) =>
    queryOptions({
      queryKey: ["keys", "one", name],
      queryFn: () => api.key(name),
      retry: false,
    }),
  keysNamed: (text: string) =>
    queryOptions({
      queryKey: ["keys", "named", text],
      queryFn: () => api.keys({ limit: 50, q: text }),
      ...again,
    }),
  keysOf: (fingerprint: string) =>
    queryOptions({
      queryKey: ["keys", "of", fingerprint],
      queryFn: () => api.keys({ fingerprint }),
    }),
  badDay: (key: string, state: string) =>
    queryOptions({
      queryKey: ["keys", "bad day", key, state],
      queryFn: () => api.badDay(key, state, "", true),
    }),
  launchChoices: () => queryOptions({ queryKey: ["keys", "to launch"], queryFn: launchChoices }),

  instances: (q: ListQuery) =>
    queryOptions({ queryKey: ["instances", "list", q], queryFn: () => api.instances(q), ...again }),
  instance: (name: string) =>
    queryOptions({
      queryKey: ["instances", "one", name],
      queryFn: () => api.instance(name),
      refetchInterval: slowly,
      retry: false,
    }),
  agent: (instance: string) =>
    queryOptions({
      queryKey: ["instances", "agent", instance],
      queryFn: () => api.agent(instance),
      refetchInterval: slowly,
    }),
  streams: (instance: string) =>
    queryOptions({
      queryKey: ["streams", instance],
      queryFn: () => api.streams(instance),
      refetchInterval: sometimes,
    }),
  keyLists: () =>
    queryOptions({ queryKey: ["key lists"], queryFn: api.keyLists, staleTime: seldom }),
  discovery: () =>
    queryOptions({
      queryKey: ["instances", "discovery"],
      queryFn: api.discovery,
      refetchInterval: slowly,
    }),
  rules: (instance: string) =>
    queryOptions({
      queryKey: ["instances", "rules", instance],
      queryFn: () => api.rules(instance),
      refetchInterval: sometimes,
    }),
  // It is asked of the server itself, and so never by itself.
  hostKey: (instance: string, address: string) =>
    queryOptions({
      queryKey: ["host-key", instance, address],
      queryFn: () => api.hostKey(instance),
      retry: false,
    }),
  bootLog: (instance: string) =>
    queryOptions({
      queryKey: ["boot-log", instance],
      queryFn: () => api.bootLog(instance),
      retry: false,
    }),
  routes: (instance: string) =>
    queryOptions({
      queryKey: ["routes", instance],
      queryFn: () => api.routes(instance),
      staleTime: 30_000,
    }),
  why: (instance: string, key: string, publicKey: string, user: string, round: number) =>
    queryOptions({
      queryKey: ["why", instance, key, user, round],
      queryFn: () => api.why(instance, user, publicKey).then((a) => a.report),
      retry: false,
      staleTime: Infinity,
    }),

  accessList: (q: ListQuery) =>
    queryOptions({ queryKey: ["access", "list", q], queryFn: () => api.access(q), ...again }),
  /** Every access of an instance, or of a key. */
  accessOf: (of: { instance?: string; key?: string }) =>
    queryOptions({ queryKey: ["access", "all", of], queryFn: () => everyAccess(of), ...again }),
  opening: (instance: string) =>
    queryOptions({
      queryKey: ["access", "opening", instance],
      queryFn: () => api.opening(instance),
      ...again,
    }),
  opens: (key: string) =>
    queryOptions({ queryKey: ["access", "opens", key], queryFn: () => api.opens(key), ...again }),
  ages: () => queryOptions({ queryKey: ["access", "ages"], queryFn: api.ages }),
  map: (q: ListQuery) =>
    queryOptions({ queryKey: ["access", "map", q], queryFn: () => api.accessMap(q), ...again }),
  surveys: (instance: string) =>
    queryOptions({
      queryKey: ["access", "surveys", instance],
      queryFn: () => api.lastSurveys(instance),
    }),
  timeline: (what: "keys" | "instances", name: string) =>
    queryOptions({
      queryKey: ["access", "timeline", what, name],
      queryFn: () => api.timeline(what, name),
      refetchInterval: slowly,
    }),
  rotationPlan: (instance: string, r: RotateRequest) =>
    queryOptions({
      queryKey: ["access", "rotation plan", instance, r],
      queryFn: () => api.rotationPlan(instance, r),
      retry: false,
    }),
  fleetPlan: (r: FleetRequest) =>
    queryOptions({
      queryKey: ["access", "fleet plan", r],
      queryFn: () => api.planFleet(r),
      retry: false,
    }),

  today: (q: ListQuery) =>
    queryOptions({
      queryKey: ["today", q],
      queryFn: () => api.today(q),
      refetchInterval: sometimes,
      ...again,
    }),
  journal: (q: ListQuery, live: boolean) =>
    queryOptions({
      queryKey: ["journal", q],
      queryFn: () => api.journal(q),
      refetchInterval: live ? sometimes : false,
      ...again,
    }),

  tokens: () => queryOptions({ queryKey: ["people", "tokens"], queryFn: api.tokens }),
  operators: () => queryOptions({ queryKey: ["people", "operators"], queryFn: api.operators }),
  operatorKeys: (name: string) =>
    queryOptions({ queryKey: ["people", "keys", name], queryFn: () => api.operatorKeys(name) }),
  policy: () => queryOptions({ queryKey: ["people", "policy"], queryFn: api.policy }),

  books: () => queryOptions({ queryKey: ["books"], queryFn: api.books }),
  book: (work: number) =>
    queryOptions({ queryKey: ["books", work], queryFn: () => api.book(work) }),
  /** What the journal has of some instances since a time, the newest first. */
  journalOf: (instances: string[], since: string) =>
    queryOptions({
      queryKey: ["journal", "of", instances, since],
      queryFn: async () => {
        const pages = await Promise.all(
          instances.map((i) => api.journal({ target: `instance ${i}`, limit: 20 })),
        );
        return pages
          .flatMap((p) => p.items)
          .filter((e) => e.at > since)
          .sort((a, b) => b.id - a.id)
          .slice(0, 50);
      },
    }),
  works: (q: ListQuery) =>
    queryOptions({ queryKey: ["works", q], queryFn: () => api.workList(q), ...again }),
  work: (id: number) =>
    queryOptions({ queryKey: ["work", id], queryFn: () => api.work(id), retry: false }),
  waves: (id: number) =>
    queryOptions({ queryKey: ["work", id, "waves"], queryFn: () => api.fleet(id) }),
  report: (id: number) =>
    queryOptions({ queryKey: ["work", id, "report"], queryFn: () => api.report(id), retry: false }),
};

const old = (client: QueryClient, ...first: string[]) =>
  Promise.all(first.map((f) => client.invalidateQueries({ queryKey: [f] }))).then(() => undefined);

/** What a change makes old; what is on the page is read again. */
export const changed = {
  keyLists: (client: QueryClient) => old(client, "key lists", "today", "works", "journal"),
  books: (client: QueryClient) => old(client, "books", "today", "works", "journal"),
  matter: (client: QueryClient) => old(client, "today"),
  /** Operators, tokens, keys that sign, or the policy. */
  people: (client: QueryClient) => old(client, "people", "today", "journal"),
  key: (client: QueryClient) => old(client, "keys", "instances", "access", "today", "journal"),
  instance: (client: QueryClient) => old(client, "instances", "access", "today", "works"),
  /** Somebody looked at an instance, or wrote down what opens it. */
  access: (client: QueryClient) => old(client, "access", "keys", "instances", "today"),
  streams: (client: QueryClient) => old(client, "streams", "journal"),
  hostKey: (client: QueryClient) => old(client, "host-key", "instances", "today"),
  /** A piece of work went on. */
  work: (client: QueryClient, id: number) =>
    client
      .invalidateQueries({ queryKey: ["work", id] })
      .then(() => old(client, "instances", "access")),
  /** A piece of work ended, or was told something. */
  workEnded: (client: QueryClient, id: number) =>
    client
      .invalidateQueries({ queryKey: ["work", id] })
      .then(() => old(client, "instances", "access", "keys", "today", "works", "journal")),
};
