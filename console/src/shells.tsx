// Shells in the page: SSH ends here, in the worker; the service carries its cipher text.
import {
  Alert,
  App,
  Button,
  Checkbox,
  Drawer,
  Input,
  Popconfirm,
  Progress,
  Radio,
  Space,
  Table,
  Tooltip,
  Upload,
} from "antd";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState, useSyncExternalStore } from "react";
import { Link } from "react-router";
import "@xterm/xterm/css/xterm.css";
import type { Instance } from "./api";
import { core, type RemoteFile, save } from "./core";
import { useParam } from "./param";
import { Loaded, Mono, Nothing, Title } from "./parts";
import { queries } from "./queries";
import {
  type By,
  closeSession,
  colours,
  download,
  forReader,
  openSession,
  otherHostKeys,
  rememberHostKeys,
  type Session,
  sessions,
  upload,
} from "./sessions";
import { ago, bytes } from "./text";

const said: Record<By, string> = {
  file: "Your private file is opened in this page, in its worker, and is gone with the tab: it is neither stored nor sent.",
  line: "A pair is made in this page, for this session alone. Its public half is let in for five minutes, by an end that the server itself keeps, from the service's address only, and is withdrawn once the session has begun. Its private half never leaves the page.",
  cloud:
    "A pair is made in this page, for this session alone. The cloud's own agent lets its public half in for a minute or so, and takes it away again: that edit is the cloud's, and not ours. Its private half never leaves the page.",
};

/** Asks for the key, and opens. */
function Opening({ instance: i, opened }: { instance: Instance; opened: (s: Session) => void }) {
  const [file, setFile] = useState<{ name: string; data: Uint8Array }>();
  const [passphrase, setPassphrase] = useState("");
  const [reason, setReason] = useState("");
  const [by, setBy] = useState<By>("file");
  const made = by !== "file";
  const [moved, setMoved] = useState(() => otherHostKeys(i));
  const open = useMutation({
    mutationFn: async () => {
      if (!made && !file) throw new Error("choose the private file");
      const k = made
        ? await core.keyMake()
        : await core.keyOpen({ file: (file?.data ?? new Uint8Array()).slice(), passphrase });
      try {
        return await openSession(i, k.pair, k.fingerprint ?? "", reason, {
          by,
          publicLine: k.publicLine ?? "",
        });
      } finally {
        void core.keyForget(k.pair);
      }
    },
    onSuccess: (s) => {
      setPassphrase("");
      file?.data.fill(0);
      setFile(undefined);
      opened(s);
    },
  });
  return (
    <form
      className="shell-form"
      onSubmit={(e) => {
        e.preventDefault();
        open.mutate();
      }}
    >
      {moved && (
        <Alert
          type="error"
          showIcon
          className="gap"
          title="The host key of this instance is another one than this browser remembers"
          description={
            <>
              <p>
                Remembered is {moved.join("; ")}. Either somebody put another key there on purpose,
                or the service, or somebody between, is not telling the truth. Ask whoever has{" "}
                {i.name}, and not this page.
              </p>
              <Popconfirm
                title="Do you know from somebody else that the host key was changed?"
                okText="I know it"
                onConfirm={() => {
                  rememberHostKeys(i);
                  setMoved(undefined);
                }}
              >
                <Button danger>Remember the new one</Button>
              </Popconfirm>
            </>
          }
        />
      )}
      <p>
        {said[by]} The service passes bytes on that it cannot read; what it knows is who, when, how
        long and how many bytes. Nothing that you type is recorded.
      </p>
      <Space orientation="vertical" className="wide">
        <Radio.Group
          aria-label="the key"
          value={by}
          onChange={(e) => setBy(e.target.value as By)}
          options={[
            { value: "file", label: "A private file of mine" },
            { value: "line", label: "A pair made for this session" },
            ...(i.lends ? [{ value: "cloud", label: "A key that the cloud lends" }] : []),
          ]}
        />
        {!made && (
          <>
            <Upload
              maxCount={1}
              showUploadList={false}
              beforeUpload={(f) => {
                void f
                  .arrayBuffer()
                  .then((b) => setFile({ name: f.name, data: new Uint8Array(b) }));
                return false;
              }}
            >
              <Button>{file ? `Private file: ${file.name}` : "Choose the private file"}</Button>
            </Upload>
            <Input.Password
              placeholder="its passphrase, if it has one"
              aria-label="its passphrase, if it has one"
              autoComplete="off"
              value={passphrase}
              onChange={(e) => setPassphrase(e.target.value)}
            />
          </>
        )}
        <Input
          placeholder={made ? "why: it is asked for here" : "why, for the journal"}
          aria-label="why, for the journal"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <Button
          type="primary"
          htmlType="submit"
          disabled={(made ? reason.trim() === "" : !file) || !!moved}
          loading={open.isPending}
        >
          Open a shell on {i.name} as {i.login_user}
        </Button>
        {open.error && <Alert type="error" showIcon title={open.error.message} />}
      </Space>
      <p className="quiet">
        The way that does not depend on this page is your own ssh, through the same service:
      </p>
      <Mono label="Copy the command">{`plumlatch open ${i.name} -stream`}</Mono>
    </form>
  );
}

function NewShell({ instance, opened }: { instance: string; opened: (s: Session) => void }) {
  const query = useQuery(queries.instance(instance));
  return (
    <Loaded query={query}>
      {(i) =>
        i.state !== "running" || (i.host_keys?.length ?? 0) === 0 ? (
          <Nothing>
            {i.name} is {i.state}, or no host key of it is known: nobody gets in.
          </Nothing>
        ) : (
          <Opening key={i.name} instance={i} opened={opened} />
        )
      }
    </Loaded>
  );
}

/** A terminal, as long as it is shown; the session is there before and after. */
function Shown({ session: s, reader }: { session: Session; reader: boolean }) {
  const place = useRef<HTMLDivElement>(null);
  const { modal, message } = App.useApp();
  useEffect(() => {
    const at = place.current;
    if (!at) return;
    at.appendChild(s.element);
    if (!s.terminal.element) {
      s.terminal.open(s.element);
      s.terminal.attachCustomKeyEventHandler((e) => {
        if (e.key === "Escape" && e.shiftKey) {
          if (e.type === "keydown") {
            document.querySelector<HTMLElement>(".shells [role=tab][aria-selected=true]")?.focus();
          }
          return false;
        }
        if (e.key.toLowerCase() === "c" && e.ctrlKey && e.shiftKey) {
          if (e.type === "keydown" && s.terminal.hasSelection()) {
            void navigator.clipboard.writeText(s.terminal.getSelection());
          }
          e.preventDefault();
          return false;
        }
        return true;
      });
    }
    const fit = () => s.fit.fit();
    const sizes = new ResizeObserver(fit);
    sizes.observe(at);
    const look = new MutationObserver(() => {
      s.terminal.options.theme = colours();
    });
    look.observe(document.documentElement, { attributeFilter: ["data-theme"] });
    fit();
    s.terminal.focus();
    const paste = (e: ClipboardEvent) => {
      const text = e.clipboardData?.getData("text/plain") ?? "";
      if (!/[\r\n]/.test(text.trimEnd()) && !/[\r\n]$/.test(text)) return;
      e.preventDefault();
      e.stopPropagation();
      void modal.confirm({
        title: "Paste several lines?",
        content: <pre className="pasted">{text.slice(0, 2000)}</pre>,
        okText: "Paste them",
        onOk: () => s.terminal.paste(text),
        afterClose: () => s.terminal.focus(),
      });
    };
    at.addEventListener("paste", paste, true);
    return () => {
      at.removeEventListener("paste", paste, true);
      sizes.disconnect();
      look.disconnect();
      s.element.remove();
    };
  }, [s, modal, message]);
  useEffect(() => {
    forReader(s, reader);
  }, [s, reader]);
  return (
    <div
      ref={place}
      className="terminal-place"
      role="group"
      aria-label={`terminal on ${s.instance}`}
    />
  );
}

interface Move {
  name: string;
  total: number;
  came: number;
  error?: string;
  done?: boolean;
  stop: AbortController;
}

/** The files there, to this machine's own disk and back. */
function Files({ session: s, close }: { session: Session; close: () => void }) {
  const [folder, setFolder] = useState("");
  const [moves, setMoves] = useState<Move[]>([]);
  const list = useQuery({
    queryKey: ["shell-files", s.n, folder],
    queryFn: () => core.shellFiles(s.shell ?? 0, folder),
    retry: false,
    gcTime: 0,
  });
  const where = list.data?.where ?? folder;
  const below = (n: string) => (where === "/" ? "/" + n : where + "/" + n);
  const begin = (
    name: string,
    total: number,
    run: (m: Move, tell: () => void) => Promise<void>,
  ) => {
    const m: Move = { name, total, came: 0, stop: new AbortController() };
    const tell = () => setMoves((all) => [...all]);
    setMoves((all) => [...all, m]);
    run(m, tell)
      .then(() => {
        m.done = true;
      })
      .catch((e: unknown) => {
        m.error = m.stop.signal.aborted ? "stopped" : e instanceof Error ? e.message : String(e);
      })
      .finally(tell);
  };
  const get = (f: RemoteFile) =>
    begin(f.name, f.size, async (m, tell) => {
      const came = (n: number) => {
        m.came = n;
        tell();
      };
      const blob = await download(s, below(f.name), came, m.stop.signal);
      save(f.name, new Uint8Array(await blob.arrayBuffer()));
    });
  const put = (f: File) =>
    begin(f.name, f.size, async (m, tell) => {
      const went = (n: number) => {
        m.came = n;
        tell();
      };
      await upload(s, where, f, went, m.stop.signal);
      await list.refetch();
    });
  return (
    <Drawer open title={`Files on ${s.instance}`} size="large" onClose={close}>
      <p className="quiet">
        They go by SFTP in the same connection: to this machine&apos;s disk and nowhere else.
      </p>
      <Space className="filters">
        <code>{where || "..."}</code>
        <Button
          size="small"
          disabled={where === "/" || !where}
          onClick={() => setFolder(where.replace(/\/[^/]*$/, "") || "/")}
        >
          The folder above
        </Button>
        <Upload
          multiple
          showUploadList={false}
          beforeUpload={(f) => {
            put(f);
            return false;
          }}
        >
          <Button size="small" disabled={!where}>
            Send files here
          </Button>
        </Upload>
      </Space>
      {moves.map((m, n) => (
        <div key={n} className="move">
          <span>
            {m.name}: {m.error ?? (m.done ? "whole" : `${bytes(m.came)} of ${bytes(m.total)}`)}
          </span>
          {!m.done && !m.error && (
            <>
              <Progress
                size="small"
                aria-label={`how much of ${m.name} has come`}
                percent={m.total ? Math.floor((100 * m.came) / m.total) : 0}
              />
              <Button size="small" onClick={() => m.stop.abort()}>
                Stop
              </Button>
            </>
          )}
        </div>
      ))}
      {list.error && <Alert type="error" showIcon title={list.error.message} />}
      <Table<RemoteFile>
        size="small"
        rowKey="name"
        loading={list.isPending}
        dataSource={list.data?.files ?? []}
        pagination={{ pageSize: 50, hideOnSinglePage: true }}
        columns={[
          {
            title: "Name",
            render: (_, f) =>
              f.folder ? (
                <Button type="link" size="small" onClick={() => setFolder(below(f.name))}>
                  {f.name}/
                </Button>
              ) : (
                f.name
              ),
          },
          { title: "Size", align: "right", render: (_, f) => (f.folder ? "" : bytes(f.size)) },
          { title: "Changed", render: (_, f) => ago(f.at) },
          {
            title: "",
            render: (_, f) =>
              !f.folder && (
                <Button size="small" onClick={() => get(f)} aria-label={`Bring ${f.name}`}>
                  Bring it
                </Button>
              ),
          },
        ]}
      />
    </Drawer>
  );
}

function OneShell({ session: s }: { session: Session }) {
  const [files, setFiles] = useState(false);
  const [reader, setReader] = useState(false);
  return (
    <>
      {s.over !== undefined ? (
        <Alert
          type="warning"
          showIcon
          title={`This session has ended: ${s.over}`}
          action={<Link to={`/shells?instance=${s.instance}`}>Open another one</Link>}
        />
      ) : (
        !s.line && (
          <Alert
            type="info"
            showIcon
            title="The connection broke. The session goes on if it can be taken up within half a minute."
          />
        )
      )}
      <Shown session={s} reader={reader} />
      <Space className="filters" wrap>
        <Tooltip title="Files of the same account, by SFTP">
          <Button size="small" disabled={s.over !== undefined} onClick={() => setFiles(true)}>
            Files
          </Button>
        </Tooltip>
        <Checkbox checked={reader} onChange={(e) => setReader(e.target.checked)}>
          For a screen reader
        </Checkbox>
        <span className="quiet">
          <kbd>Shift</kbd>+<kbd>Esc</kbd> leaves the terminal; <kbd>Ctrl</kbd>+<kbd>Shift</kbd>+
          <kbd>C</kbd> copies; <kbd>Ctrl</kbd>+<kbd>Shift</kbd>+<kbd>V</kbd> pastes. Nothing typed
          is recorded; the service knows who, when, how long and how many bytes.
        </span>
        <span className={"bell" + (s.bell ? " rang" : "")} key={s.bell} role="status">
          {s.bell ? "The bell rang" : ""}
        </span>
      </Space>
      {files && <Files session={s} close={() => setFiles(false)} />}
    </>
  );
}

const fresh = 0;

export function ShellsPage() {
  const all = useSyncExternalStore(sessions.watch, sessions.now);
  const [instance, setInstance] = useParam("instance");
  const [at, setAt] = useState<number>();
  const { modal } = App.useApp();
  const there = all.filter((s) => s.shell !== undefined);
  const active = instance ? fresh : (at ?? there.at(-1)?.n);
  const shown = there.find((s) => s.n === active);
  const close = (s: Session) => {
    setAt(undefined);
    if (s.over !== undefined) {
      void closeSession(s);
      return;
    }
    void modal.confirm({
      title: `End the session on ${s.instance}?`,
      content: "What runs in it gets a hang-up.",
      okText: "End it",
      onOk: () => closeSession(s),
    });
  };
  if (there.length === 0 && !instance) {
    return (
      <>
        <Title>Shells</Title>
        <Nothing>
          No session is open in this tab. <Link to="/instances">An instance&apos;s page</Link> opens
          one.
        </Nothing>
      </>
    );
  }
  const tabs = [
    ...there.map((s) => ({ n: s.n, label: s.instance + (s.over === undefined ? "" : ", ended") })),
    ...(instance ? [{ n: fresh, label: `a new one on ${instance}` }] : []),
  ];
  const go = (n: number) => {
    setAt(n === fresh ? undefined : n);
    if (n !== fresh) setInstance(undefined);
  };
  return (
    <>
      <Title
        actions={
          shown && (
            <Button danger={shown.over === undefined} onClick={() => close(shown)}>
              {shown.over === undefined ? "End this session" : "Close"}
            </Button>
          )
        }
      >
        Shells
      </Title>
      <div role="tablist" aria-label="sessions" className="shells">
        {tabs.map((t, n) => (
          <button
            key={t.n}
            type="button"
            role="tab"
            id={`shell-tab-${t.n}`}
            aria-selected={t.n === active}
            aria-controls="shell-panel"
            tabIndex={t.n === active ? 0 : -1}
            onClick={() => go(t.n)}
            onKeyDown={(e) => {
              const to = tabs[n + (e.key === "ArrowRight" ? 1 : e.key === "ArrowLeft" ? -1 : 0)];
              if (to && to.n !== t.n) {
                go(to.n);
                document.getElementById(`shell-tab-${to.n}`)?.focus();
              }
            }}
          >
            {t.label}
          </button>
        ))}
      </div>
      <div role="tabpanel" id="shell-panel" aria-labelledby={`shell-tab-${active}`}>
        {shown && <OneShell key={shown.n} session={shown} />}
        {active === fresh && instance && (
          <NewShell
            instance={instance}
            opened={(s) => {
              setAt(s.n);
              setInstance(undefined);
            }}
          />
        )}
      </div>
    </>
  );
}
