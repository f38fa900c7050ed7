// The sessions of this tab: each a terminal, over a stream of its own, with its SSH client in the worker. They outlive the page that shows them, and end with
// the tab. Nothing of them is stored.
import { FitAddon } from "@xterm/addon-fit";
import { Terminal } from "@xterm/xterm";
import { core, onShell, type ShellEvent } from "./core";
import { api, type Instance, over } from "./api";

export interface Session {
  n: number;
  instance: string;
  user: string;
  fingerprint: string;
  opened: number; // ms since 1970
  terminal: Terminal;
  fit: FitAddon;
  element: HTMLElement;
  shell?: number;
  /** Whether the connection is there. */
  line: boolean;
  /** Why it is over. */
  over?: string;
  bell: number;
}

let last = 0;
let all: Session[] = [];
const watching = new Set<() => void>();

export const sessions = {
  now: () => all,
  watch: (f: () => void) => {
    watching.add(f);
    return () => void watching.delete(f);
  },
};

function changed(of: Session, change: Partial<Session>) {
  Object.assign(of, change);
  all = [...all];
  for (const f of watching) f();
}

// What a tab holds is lost when it is closed: the browser asks.
addEventListener("beforeunload", (e) => {
  if (all.some((s) => s.shell !== undefined && s.over === undefined)) {
    e.preventDefault();
  }
});

const moving = new Map<number, (part: Uint8Array<ArrayBuffer>) => void>();

onShell((e: ShellEvent) => {
  if (e.move !== undefined && e.part) {
    moving.get(e.move)?.(e.part);
    return;
  }
  const s = all.find((x) => x.shell === e.shell);
  if (!s) {
    early.set(e.shell, [...(early.get(e.shell) ?? []), e]);
    return;
  }
  take(s, e);
});

/** What came of a shell before its number did. */
const early = new Map<number, ShellEvent[]>();

function take(s: Session, e: ShellEvent) {
  if (e.data) {
    const n = e.data.length;
    s.terminal.write(e.data, () => void core.shellDrawn(e.shell, n));
  }
  if (e.line !== undefined) changed(s, { line: e.line });
  if (e.over !== undefined) {
    s.terminal.options.disableStdin = true;
    changed(s, { over: e.over || "it was closed" });
  }
}

const dark = {
  background: "#17151a",
  foreground: "#e9e4ea",
  cursor: "#a4608f",
  selectionBackground: "#4a3a48",
};
const light = {
  background: "#fffdf9",
  foreground: "#241f29",
  cursor: "#6b2a5b",
  cursorAccent: "#fffdf9",
  selectionBackground: "#dcc9d7",
  // The usual bright colours cannot be read on paper.
  yellow: "#8a6016",
  brightYellow: "#8a6016",
  green: "#2f6b34",
  brightGreen: "#2f6b34",
  cyan: "#1f6472",
  brightCyan: "#1f6472",
  white: "#6d6673",
  brightWhite: "#241f29",
};

export const colours = () => (document.documentElement.dataset.theme === "dark" ? dark : light);

// The page's policy takes no style attribute. The terminal gives its cells colours by one: what it sets so is set as a property, which is the same.
function styled(this: HTMLElement, attribute: string, value: string) {
  if (attribute === "style") {
    this.style.cssText = value;
  } else {
    Element.prototype.setAttribute.call(this, attribute, value);
  }
}

const createElement = document.createElement.bind(document);
document.createElement = (tag: string, options?: ElementCreationOptions) => {
  const element = createElement(tag, options);
  if (tag === "span") element.setAttribute = styled;
  return element;
};

/** A terminal without what a hostile server could use to reach out of it: no titles, no links, no clipboard, no answers about windows. */
function terminal(): Terminal {
  return new Terminal({
    fontFamily: "ui-monospace, 'DejaVu Sans Mono', Menlo, Consolas, monospace",
    fontSize: 14,
    lineHeight: 1.2,
    scrollback: 10_000,
    theme: colours(),
    linkHandler: { activate: () => undefined },
    windowOptions: {},
    minimumContrastRatio: 4.5,
  });
}

const pins = (i: Instance) => "plumlatch-host-keys " + i.host_key_alias;

/** What this browser remembers of an instance's host keys, if it is not what the service says now. */
export function otherHostKeys(i: Instance): string[] | undefined {
  const was = localStorage.getItem(pins(i));
  if (was === null) return undefined;
  const known = was.split("\n");
  const now = (i.host_keys ?? []).map((h) => h.public_key);
  return now.every((k) => known.includes(k)) ? undefined : known;
}

export function rememberHostKeys(i: Instance) {
  localStorage.setItem(pins(i), (i.host_keys ?? []).map((h) => h.public_key).join("\n"));
}

/** Waits until the server takes a pair that was made for a session: the stream waits half a minute for it. */
async function letIn(stream: number, publicLine: string) {
  let w = await api.sessionKey(stream, publicLine);
  for (let tries = 0; tries < 100; tries++) {
    if (w.state === "done" || (w.state === "waiting" && w.step_name === "end")) return;
    if (over(w) || w.state === "stuck") {
      throw new Error(w.outcome || w.trouble || "the pair was not let in");
    }
    await new Promise((r) => setTimeout(r, 250));
    w = await api.work(w.id);
  }
  throw new Error(
    "the pair was not let in within half a minute: the steward does not get in there, or is slow",
  );
}

/** How the public half of a pair that was made for a session gets in. */
export type By = "file" | "line" | "cloud";

/** Logs in; while the cloud's agent has not taken a lent key yet, over one stream after another. */
async function login(
  i: Instance,
  pair: number,
  reason: string,
  made: { by: By; publicLine: string },
  t: Terminal,
) {
  let until = 0;
  if (made.by === "cloud") {
    until = Date.parse((await api.lendKey(i.name, made.publicLine, reason)).until);
  }
  for (;;) {
    const begun = await api.openStream(i.name, reason);
    if (made.by === "line") await letIn(begun.id, made.publicLine);
    const { shell, refused } = await core.shellOpen({
      stream: begun.id,
      secret: begun.secret,
      pair,
      user: i.login_user,
      hostKeys: (i.host_keys ?? []).map((h) => h.public_key),
      columns: t.cols,
      rows: t.rows,
    });
    if (shell !== undefined) return { begun, shell };
    if (Date.now() > until) throw new Error(refused);
    await new Promise((r) => setTimeout(r, 1000));
  }
}

/** Opens a session with a pair that the worker keeps. */
export async function openSession(
  i: Instance,
  pair: number,
  fingerprint: string,
  reason: string,
  made: { by: By; publicLine: string },
): Promise<Session> {
  if (otherHostKeys(i)) {
    throw new Error("the host key is another one than this browser remembers");
  }
  const t = terminal();
  const fit = new FitAddon();
  t.loadAddon(fit);
  const element = document.createElement("div");
  element.className = "terminal-of";
  const s: Session = {
    n: ++last,
    instance: i.name,
    user: i.login_user,
    fingerprint,
    opened: Date.now(),
    terminal: t,
    fit,
    element,
    line: false,
    bell: 0,
  };
  all = [...all, s];
  changed(s, {});
  try {
    const { begun, shell } = await login(i, pair, reason, made, t);
    rememberHostKeys(i);
    changed(s, { shell, line: true });
    // The session goes on without it. If this is not heard, the server ends it by itself.
    if (made.by === "line") void api.sessionBegan(begun.id).catch(() => undefined);
    for (const e of early.get(shell) ?? []) take(s, e);
    early.delete(shell);
    const text = new TextEncoder();
    t.onData((typed) => {
      if (s.over === undefined) void core.shellType(shell, text.encode(typed));
    });
    t.onBinary((typed) => {
      if (s.over === undefined)
        void core.shellType(
          shell,
          Uint8Array.from(typed, (c) => c.charCodeAt(0)),
        );
    });
    t.onResize(({ cols, rows }) => void core.shellResize(shell, cols, rows));
    void core.shellResize(shell, t.cols, t.rows);
    t.onBell(() => changed(s, { bell: s.bell + 1 }));
    return s;
  } catch (e) {
    forget(s);
    throw e;
  }
}

/** Has a terminal tell a screen reader what it shows. */
export function forReader(s: Session, on: boolean) {
  s.terminal.options.screenReaderMode = on;
}

function forget(s: Session) {
  s.terminal.dispose();
  all = all.filter((x) => x !== s);
  for (const f of watching) f();
}

/** Ends a session, and takes it from the page. */
export async function closeSession(s: Session) {
  if (s.shell !== undefined) await core.shellClose(s.shell);
  forget(s);
}

let moves = 0;

/** Brings a file to the browser's downloads. */
export async function download(
  s: Session,
  name: string,
  came: (bytes: number) => void,
  signal: AbortSignal,
): Promise<Blob> {
  const shell = s.shell ?? 0;
  const move = ++moves;
  const parts: Uint8Array<ArrayBuffer>[] = [];
  let total = 0;
  moving.set(move, (part) => {
    parts.push(part);
    total += part.length;
    came(total);
  });
  const stop = () => void core.shellStop(shell, move);
  signal.addEventListener("abort", stop);
  try {
    await core.shellGet(shell, move, name);
    return new Blob(parts, { type: "application/octet-stream" });
  } finally {
    moving.delete(move);
    signal.removeEventListener("abort", stop);
  }
}

const partSize = 256 * 1024;

/** Sends a file into a folder there. */
export async function upload(
  s: Session,
  folder: string,
  file: File,
  went: (bytes: number) => void,
  signal: AbortSignal,
) {
  const shell = s.shell ?? 0;
  const move = ++moves;
  const stop = () => void core.shellStop(shell, move);
  signal.addEventListener("abort", stop);
  const whole = core.shellPut(shell, move, folder, file.name);
  try {
    for (let at = 0; at < file.size && !signal.aborted; at += partSize) {
      const part = new Uint8Array(await file.slice(at, at + partSize).arrayBuffer());
      await Promise.race([core.shellPart(shell, move, part), whole]);
      went(Math.min(file.size, at + partSize));
    }
    if (!signal.aborted) await core.shellPart(shell, move, new Uint8Array());
    await whole;
  } catch (e) {
    stop();
    await whole.catch(() => undefined);
    throw e;
  } finally {
    signal.removeEventListener("abort", stop);
  }
}
