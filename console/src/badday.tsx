// The two bad days of a key: lost, and exposed.
import { Alert, Button, Input, Modal, Table } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Follows, type FollowsDoor, type Key } from "./api";
import { Evidence } from "./marks";
import { Loaded, Mono } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";

function Doors({ rows, title }: { rows: FollowsDoor[]; title: string }) {
  if (rows.length === 0) {
    return null;
  }
  return (
    <>
      <h3>{title}</h3>
      <Table<FollowsDoor>
        size="small"
        rowKey={(d) => d.instance + d.login_user}
        dataSource={rows}
        pagination={rows.length > 20 && { pageSize: 20 }}
        columns={[
          {
            title: "Instance",
            render: (_, d) => (
              <>
                <Link to={"/instances/" + d.instance}>{d.instance}</Link>
                {d.others.length === 0 && (
                  <>
                    {" "}
                    (<Link to={`/instances/${d.instance}/restore`}>ways back in</Link>)
                  </>
                )}
              </>
            ),
          },
          {
            title: "Evidence",
            render: (_, d, n) => (
              <>
                <Evidence mark={d} id={`follows-${n}`} />
                {!d.recorded && ", not recorded"}
              </>
            ),
          },
          { title: "Other openers", render: (_, d) => d.others.join(", ") },
          { title: "Why here", dataIndex: "why" },
        ]}
      />
    </>
  );
}

export function FollowsView({ f, state }: { f: Follows; state: string }) {
  const lost = state === "lost";
  return (
    <>
      <Doors
        rows={lost ? f.locked : f.shut}
        title={
          lost ? "Nobody gets into these any more" : "Shut these, in this order: another opens each"
        }
      />
      <Doors
        rows={lost ? f.shut : f.locked}
        title={lost ? "Another key opens these" : "No other key of a person opens these"}
      />
      {f.shut.length + f.locked.length === 0 && <p>It opens nothing, as far as is known.</p>}
    </>
  );
}

/** The buttons that take a key into a state, each showing first what follows. */
export function BadDays({ of: key }: { of: Key }) {
  const [state, setState] = useState<"lost" | "exposed" | null>(null);
  const [reason, setReason] = useState("");
  const [done, setDone] = useState<Follows | null>(null);
  const mayChange = useMayChange();
  const client = useQueryClient();
  const plan = useQuery({
    ...queries.badDay(key.name, state ?? "lost"),
    enabled: state !== null && done === null,
  });
  const record = useMutation({
    mutationFn: (to: string) => api.badDay(key.name, to, reason, false),
    onSuccess: async (f, to) => {
      setDone(to === "in use" ? null : f);
      await changed.key(client);
    },
  });
  const close = () => {
    setState(null);
    setDone(null);
    setReason("");
    record.reset();
  };
  return (
    <>
      {key.state === "in use" && (
        <Button disabled={!mayChange} onClick={() => setState("lost")}>
          Lost
        </Button>
      )}
      {key.state === "lost" && (
        <Button disabled={!mayChange} onClick={() => record.mutate("in use")}>
          Found again
        </Button>
      )}
      {key.state !== "exposed" && (
        <Button disabled={!mayChange} onClick={() => setState("exposed")}>
          Exposed
        </Button>
      )}
      <Modal
        open={state !== null}
        width={760}
        onCancel={close}
        title={
          state === "lost"
            ? `${key.name} is lost: nobody has its private half`
            : `${key.name} is exposed: somebody else may have its private half`
        }
        footer={
          done ? (
            <Button type="primary" onClick={close}>
              Close
            </Button>
          ) : (
            <Button
              type="primary"
              danger={state === "exposed"}
              loading={record.isPending}
              disabled={!plan.data}
              onClick={() => state && record.mutate(state)}
            >
              {state === "lost" ? "Record that it is lost" : "Record that it is exposed"}
            </Button>
          )
        }
      >
        {done ? (
          <>
            <Alert
              type="info"
              showIcon
              title="Recorded. Nothing on instances was changed, and no launch takes it."
            />
            <FollowsView f={done} state={state ?? "lost"} />
            <p>
              Next: <Mono>{done.next}</Mono>
            </p>
          </>
        ) : (
          <>
            <p className="quiet">
              Nothing on instances is changed by this.
              {state === "exposed" && " An exposed key never counts as safe again."}
            </p>
            <Loaded query={plan}>{(f) => <FollowsView f={f} state={state ?? "lost"} />}</Loaded>
            <Input
              placeholder="what happened, for the journal"
              aria-label="what happened, for the journal"
              value={reason}
              maxLength={200}
              onChange={(e) => setReason(e.target.value)}
            />
            {record.error && <Alert type="error" showIcon title={record.error.message} />}
          </>
        )}
      </Modal>
    </>
  );
}
