// Work: what is at hand and what was, and one piece of it as it goes.
import { Alert, App, Button, Popconfirm, Select, Space, type TableColumnsType, Tag } from "antd";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, over, type Work, type WorkEvent } from "./api";
import { ServerTable } from "./list";
import { useParam } from "./param";
import { Streams } from "./streams";
import { Loaded, Nothing, Title } from "./parts";
import { changed, meanwhile, queries } from "./queries";
import { useMayChange } from "./session";
import { ago } from "./text";
import { LiveRestore } from "./restore";
import { LiveWaves } from "./waves";

// A piece of work may tell many things in a moment; what it makes old is read once in this time.
const atOnce = 250; // ms

/**
 * What is told of a piece of work, live: the browser comes again after a drop, and goes on after
 * the last event. What an event makes old is read again, on whatever page this is.
 */
function useEvents(id: number, round: number): WorkEvent[] {
  const [told, setTold] = useState<{ of: string; events: WorkEvent[] }>({ of: "", events: [] });
  const client = useQueryClient();
  const of = `${id} ${round}`;
  useEffect(() => {
    const source = new EventSource(api.workEvents(id));
    let soon: ReturnType<typeof setTimeout> | undefined;
    source.onmessage = (m: MessageEvent<string>) => {
      const e = JSON.parse(m.data) as WorkEvent;
      setTold((old) => {
        const before = old.of === of ? old.events : [];
        return before.some((o) => o.n >= e.n) ? old : { of, events: [...before, e] };
      });
      soon ??= setTimeout(() => {
        soon = undefined;
        void changed.work(client, id);
      }, atOnce);
    };
    source.addEventListener("end", () => {
      source.close();
      void changed.workEnded(client, id);
    });
    return () => {
      source.close();
      clearTimeout(soon);
    };
  }, [id, of, client]);
  return told.of === of ? told.events : [];
}

const mark: Record<string, string> = {
  "to do": "\u25cb",
  doing: "\u25d0",
  waiting: "\u25d4",
  done: "\u25cf",
  undoing: "\u21ba",
  undone: "\u2205",
};

/** The kind of work that keeps a machine that a copy took the place of: it waits for a word without end. */
const keptKind = "restore-kept";

const stateWord = (w: Work) => (w.going_back && !over(w) ? w.state + ", going back" : w.state);

export function WorkState({ work }: { work: Work }) {
  return <span className={"state " + work.state}>{stateWord(work)}</span>;
}

/** A piece of work with its events, and how to follow it anew. */
function useWork(id: number) {
  const [round, setRound] = useState(0);
  const events = useEvents(id, round);
  const query = useQuery(queries.work(id));
  return { id, events, query, again: () => setRound((r) => r + 1) };
}

/** One piece of work, step by step. */
export function WorkCard({ id }: { id: number }) {
  return <Steps {...useWork(id)} />;
}

function Steps({ id, events, query, again }: ReturnType<typeof useWork>) {
  const { message } = App.useApp();
  const mayChange = useMayChange();
  const ask = useMutation({
    mutationFn: (f: (id: number) => Promise<Work>) => f(id),
    onSuccess: again,
    onError: (e) => void message.error(e.message),
  });
  return (
    <Loaded query={query}>
      {(w) => (
        <div className="work">
          <div className="work-head">
            <Link to={`/work/${w.id}`}>work {w.id}</Link> {w.title}: <WorkState work={w} />
            <span className="quiet">
              begun {ago(w.created_at)} by {w.operator}
            </span>
            {!over(w) && (
              <Popconfirm
                title={
                  w.kind === keptKind ? "Go back to the old machine?" : "Take back what it did?"
                }
                description={w.beware && <div className="beware">{`Beware: ${w.beware}.`}</div>}
                okText="Take it back"
                cancelText="Go on"
                onConfirm={() => ask.mutate(api.cancelWork)}
              >
                <Button size="small" disabled={!mayChange || w.cancel_asked || w.going_back}>
                  Cancel
                </Button>
              </Popconfirm>
            )}
            {w.kind === keptKind && w.step_name === "keep" && !over(w) && !w.going_back && (
              <Popconfirm
                title="Remove the old machine for good?"
                description="Nothing goes back to it then."
                okText="Remove it"
                cancelText="Keep it"
                onConfirm={() => ask.mutate(api.goOn)}
              >
                <Button size="small" danger disabled={!mayChange || w.cancel_asked}>
                  Remove the old machine
                </Button>
              </Popconfirm>
            )}
            {["failed", "cancelled", "stuck"].includes(w.state) && (
              <Button
                size="small"
                type="primary"
                disabled={!mayChange}
                onClick={() => ask.mutate(api.retryWork)}
              >
                Try again
              </Button>
            )}
          </div>
          <ol className="work-steps">
            {w.steps?.map((s) => (
              <li key={s.name} className={s.state.replace(" ", "-")}>
                <span className="mark" aria-hidden>
                  {mark[s.state] ?? "?"}
                </span>
                {s.title} <span className="quiet">({s.state})</span>
              </li>
            ))}
          </ol>
          {w.waits_for && (
            <Alert
              type="info"
              showIcon
              title={`It waits for ${w.waits_for}.`}
              description={
                w.kind !== keptKind && w.wait_ends_at && `It gives up at ${w.wait_ends_at}.`
              }
            />
          )}
          {over(w) && w.state !== "done" && w.outcome && (
            <Alert type="warning" showIcon title={w.outcome} />
          )}
          {!over(w) && events.length > 0 && events.at(-1)?.text !== w.step_title && (
            <p className="quiet">{events.at(-1)?.text}</p>
          )}
        </div>
      )}
    </Loaded>
  );
}

const columns: TableColumnsType<Work> = [
  { title: "Work", render: (_, w) => <Link to={`/work/${w.id}`}>{w.id}</Link> },
  {
    title: "What",
    render: (_, w) =>
      w.instance ? <Link to={"/instances/" + w.instance}>{w.title}</Link> : w.title,
  },
  { title: "State", render: (_, w) => <WorkState work={w} /> },
  {
    title: "Step",
    render: (_, w) => (over(w) ? "" : `${Math.min(w.step + 1, w.step_count)} of ${w.step_count}`),
  },
  {
    title: "Now",
    render: (_, w) => (
      <span className="quiet">
        {over(w) ? w.outcome : w.waits_for ? "waits for " + w.waits_for : w.step_title}
      </span>
    ),
  },
  { title: "By", dataIndex: "operator" },
  { title: "Begun", render: (_, w) => ago(w.created_at) },
];

const states = ["open", "waiting", "done", "failed", "cancelled", "stuck"];

export function WorkListPage() {
  const [state, setState] = useParam("state");
  const [instance, setInstance] = useParam("instance");
  return (
    <>
      <Title>Work</Title>
      <Space className="filters">
        <Select
          allowClear
          placeholder="state"
          aria-label="state"
          value={state || undefined}
          onChange={(v?: string) => setState(v)}
          options={states.map((v) => ({ value: v, label: v }))}
        />
        {instance && (
          <Tag closable onClose={() => setInstance(undefined)}>
            on {instance}
          </Tag>
        )}
      </Space>
      <Streams instance={instance ?? ""} />
      <ServerTable
        key={[state, instance].join(" ")}
        list={queries.works}
        columns={columns}
        rowKey="id"
        filters={["state", "instance", "parent"]}
        refresh={(rows) => (rows.some((w) => !over(w)) ? meanwhile : 15_000)}
        empty={<Nothing>No work yet: launching, adopting and the like are listed here.</Nothing>}
      />
    </>
  );
}

export function WorkPage() {
  const { id = "" } = useParams();
  const n = Number(id);
  const live = useWork(n);
  const events = live.events;
  return (
    <Loaded query={live.query}>
      {(w) => (
        <>
          <Title>{w.title}</Title>
          <Steps {...live} />
          <LiveWaves work={w} />
          <LiveRestore work={w} />
          {w.state === "done" && w.outcome && <p>{w.outcome}</p>}
          {w.children && (
            <p>
              Its parts:{" "}
              {Object.entries(w.children).map(([state, count]) => (
                <Link key={state} to={`/work?parent=${w.id}&state=${state}`}>
                  {count} {state}{" "}
                </Link>
              ))}
            </p>
          )}
          <h2>What happened</h2>
          <ol className="events">
            {events.map((e) => (
              <li key={e.n} value={e.n}>
                <time dateTime={e.at}>{e.at.slice(11, 19)}</time> {e.text}
              </li>
            ))}
          </ol>
          {w.instance && <Link to={"/instances/" + w.instance}>{w.instance}</Link>}
        </>
      )}
    </Loaded>
  );
}
