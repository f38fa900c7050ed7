// The core, in a worker that is started when it is first needed.

export interface PublicHalf {
  kind?: string;
  fingerprint?: string;
  fingerprintMD5?: string;
  cuts?: number[];
  comment?: string;
  publicLine?: string;
  weaknesses?: { name: string; severity: string; sentence: string }[];
}

export interface Written extends PublicHalf {
  file: Uint8Array<ArrayBuffer>;
  warning?: string;
}

export interface Inspected extends PublicHalf {
  private: boolean;
  encrypted: boolean;
  wrongPassphrase: boolean;
  format: string;
  remarks: string;
  warning?: string;
}

export interface RemoteFile {
  name: string;
  size: number;
  folder: boolean;
  mode: string;
  at: string;
}

interface Answer {
  id: number;
  result?: unknown;
  error?: string;
}

/** What the core says of a session by itself. */
export interface ShellEvent {
  shell: number;
  /** What came for the terminal. */
  data?: Uint8Array;
  /** Whether the connection is there: one that broke is taken up again. */
  line?: boolean;
  /** Why it is over, "" for an end in order; and what ended. */
  over?: string;
  code?: string;
  /** A part of a file, and which. */
  part?: Uint8Array<ArrayBuffer>;
  move?: number;
}

const listeners = new Set<(e: ShellEvent) => void>();

/** Has f called with all that the core says of sessions. */
export function onShell(f: (e: ShellEvent) => void) {
  listeners.add(f);
}

let worker: Worker | undefined;
let last = 0;
const waiting = new Map<number, { done: (v: unknown) => void; failed: (e: Error) => void }>();

function running(): Worker {
  if (!worker) {
    worker = new Worker("/core-worker.js");
    worker.onmessage = (event: MessageEvent<Answer | ShellEvent>) => {
      if ("shell" in event.data) {
        for (const f of listeners) f(event.data);
        return;
      }
      const { id, result, error } = event.data;
      const call = waiting.get(id);
      waiting.delete(id);
      if (error !== undefined) {
        call?.failed(new Error(error));
      } else {
        call?.done(result);
      }
    };
    worker.onerror = () => {
      for (const call of waiting.values()) {
        call.failed(new Error("The core could not be started in this browser. Reload the page."));
      }
      waiting.clear();
      worker = undefined;
    };
  }
  return worker;
}

function ask<T>(call: string, request: object): Promise<T> {
  return new Promise<T>((done, failed) => {
    const id = ++last;
    waiting.set(id, { done: (v) => done(v as T), failed });
    running().postMessage({ id, call, request });
  });
}

export const core = {
  create: (r: { kind: string; comment: string; format: string; passphrase: string }) =>
    ask<Written>("create", r),
  inspect: (r: { file: Uint8Array; passphrase: string }) => ask<Inspected>("inspect", r),
  convert: (r: { file: Uint8Array; passphrase: string; format: string; newPassphrase: string }) =>
    ask<Written>("convert", r),
  /** Keeps the pair of a private file in the worker, for openShell; no call gives it back. */
  keyOpen: (r: { file: Uint8Array; passphrase: string }) =>
    ask<PublicHalf & { pair: number }>("keyOpen", r),
  /** Makes a pair for one session, whose private half never leaves the worker. */
  keyMake: () => ask<PublicHalf & { pair: number }>("keyMake", {}),
  keyForget: (pair: number) => ask<unknown>("keyForget", { pair }),
  shellOpen: (r: {
    stream: number;
    secret: string;
    pair: number;
    user: string;
    hostKeys: string[];
    columns: number;
    rows: number;
  }) => ask<{ shell?: number; refused?: string }>("shellOpen", r),
  shellDrawn: (shell: number, bytes: number) => ask<unknown>("shellDrawn", { shell, bytes }),
  shellType: (shell: number, data: Uint8Array) => ask<unknown>("shellType", { shell, data }),
  shellResize: (shell: number, columns: number, rows: number) =>
    ask<unknown>("shellResize", { shell, columns, rows }),
  shellClose: (shell: number) => ask<unknown>("shellClose", { shell }),
  shellFiles: (shell: number, folder: string) =>
    ask<{ where: string; files: RemoteFile[] }>("shellFiles", { shell, folder }),
  shellGet: (shell: number, move: number, name: string) =>
    ask<unknown>("shellGet", { shell, move, name }),
  shellPut: (shell: number, move: number, folder: string, name: string) =>
    ask<unknown>("shellPut", { shell, move, folder, name }),
  shellPart: (shell: number, move: number, data: Uint8Array) =>
    ask<unknown>("shellPart", { shell, move, data }),
  shellStop: (shell: number, move: number) => ask<unknown>("shellStop", { shell, move }),
  /** Whether a private key stands in a text, in any form that the service would refuse. */
  holdsPrivate: (text: string) => ask<{ holds: boolean }>("holds", { text }).then((a) => a.holds),
};

export const kinds = [
  "ed25519",
  "rsa-3072",
  "rsa-2048",
  "rsa-4096",
  "ecdsa-256",
  "ecdsa-384",
  "ecdsa-521",
];

export const privateFormats = [
  { value: "openssh", label: "OpenSSH: every current ssh", extension: "" },
  { value: "pem", label: "PEM: older programs; RSA and ECDSA", extension: ".pem" },
  { value: "pkcs8", label: "PKCS#8: programs built on OpenSSL, Java", extension: ".pem" },
  { value: "ppk", label: "PPK 3: Windows clients of that family", extension: ".ppk" },
  { value: "ppk2", label: "PPK 2: the same, before 2021", extension: ".ppk" },
];

export const publicFormats = [
  { value: "line", label: "OpenSSH line", extension: ".pub" },
  { value: "rfc4716", label: "RFC 4716", extension: ".pub" },
  { value: "spki", label: "PEM public key", extension: ".pub.pem" },
];

/** Hands a file to the browser's downloads. Nothing goes over the network. */
export function save(name: string, data: Uint8Array<ArrayBuffer>) {
  const url = URL.createObjectURL(new Blob([data], { type: "application/octet-stream" }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 10_000);
}
