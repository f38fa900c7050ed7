// What stands around an instance's door: inbound rules, host keys, boot output.
import { Alert, App, Button, Collapse, Input, Popconfirm, Select, Space, Table, Tag } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Instance, over, type Rule, type RuleGroup, type Work } from "./api";
import { Loaded, Mono, Nothing, Scrolled } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { ago, until } from "./text";

/** Waits until work is over, or waits for an end that may be long in coming. */
export async function settled(w: Work): Promise<Work> {
  let now = w;
  while (!over(now) && now.state !== "waiting") {
    await new Promise((done) => setTimeout(done, 250));
    now = await api.work(w.id);
  }
  if (over(now) && now.state !== "done") {
    throw new Error(now.trouble ?? now.outcome ?? now.state);
  }
  return now;
}

const who = (r: Rule) => {
  if (r.service) {
    return "the service itself";
  }
  if (r.by) {
    return (r.me ? `${r.by}'s own address` : `by ${r.by}`) + (r.reason ? `: ${r.reason}` : "");
  }
  return r.note ?? "";
};

const ends = [
  { value: 0, label: "for good" },
  { value: 1800, label: "for 30 minutes" },
  { value: 14400, label: "for 4 hours" },
  { value: 86400, label: "for a day" },
];

/** Whom the inbound rules let in, since when and until when. */
export function Rules({ instance }: { instance: string }) {
  const { message } = App.useApp();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const [from, setFrom] = useState("");
  const [ports, setPorts] = useState("");
  const [seconds, setSeconds] = useState(1800);
  const [reason, setReason] = useState("");
  const query = useQuery(queries.rules(instance));
  const change = useMutation({
    mutationFn: (f: () => Promise<Work>) => f().then(settled),
    onSuccess: () => {
      setFrom("");
      setPorts("");
    },
    onError: (e) => void message.error(e.message, 8),
    onSettled: () => changed.instance(client),
  });
  const withdraw = (g: RuleGroup, r: Rule) => {
    const others = g.own || g.others === 0 ? "" : ` It shuts ${g.others} others too.`;
    const blind = r.service ? " The service will see nothing of it any more." : "";
    return (
      <Popconfirm
        title={`Let ${r.from} in${r.ports ? ` to port ${r.ports}` : ""} no more?${others}${blind}`}
        okText="Withdraw it"
        onConfirm={() => change.mutate(() => api.unadmit(instance, r.from, r.ports ?? ""))}
      >
        <Button size="small" disabled={!mayChange || change.isPending}>
          Withdraw
        </Button>
      </Popconfirm>
    );
  };
  return (
    <Loaded query={query}>
      {({ groups }) => (
        <>
          <Scrolled label="Inbound rules">
            <Table
              size="small"
              pagination={false}
              rowKey={(x) => x.rule.id}
              dataSource={groups.flatMap((group) => group.rules.map((rule) => ({ group, rule })))}
              locale={{ emptyText: <Nothing>No rule lets anybody in.</Nothing> }}
              columns={[
                {
                  title: "From",
                  render: (_, { rule }) => (
                    <>
                      <code>{rule.from}</code>{" "}
                      {rule.world && <Tag color="warning">the whole world</Tag>}
                    </>
                  ),
                },
                { title: "To port", render: (_, { rule }) => rule.ports ?? "SSH" },
                { title: "Who", render: (_, { rule }) => who(rule) },
                { title: "Since", render: (_, { rule }) => rule.at && ago(rule.at) },
                {
                  title: "End",
                  render: (_, { rule }) =>
                    rule.until ? (
                      <Link to={`/work/${rule.work}`}>{until(rule.until)}</Link>
                    ) : (
                      <span className="quiet">none</span>
                    ),
                },
                {
                  title: "Group",
                  render: (_, { group }) => (
                    <span title={group.shared_with.join(", ")}>
                      {group.name}
                      <span className="quiet">
                        {group.own
                          ? ", its own"
                          : group.others === 0
                            ? ", shared; nobody else yet"
                            : `, shared with ${group.others} others`}
                      </span>
                    </span>
                  ),
                },
                {
                  title: "Do",
                  align: "right",
                  render: (_, { group, rule }) => withdraw(group, rule),
                },
              ]}
            />
          </Scrolled>
          <Space wrap className="filters gap">
            <Input
              id="admit-from"
              aria-label="Network to let in"
              placeholder="198.51.100.0/24"
              value={from}
              onChange={(e) => setFrom(e.target.value)}
            />
            <Input
              aria-label="Port"
              placeholder="SSH port, or 9000-9001"
              value={ports}
              onChange={(e) => setPorts(e.target.value)}
            />
            <Select
              aria-label="For how long"
              value={seconds}
              onChange={setSeconds}
              options={ends}
            />
            <Input
              aria-label="Reason"
              placeholder="reason"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
            />
            <Button
              disabled={!mayChange || from.trim() === "" || change.isPending}
              onClick={() =>
                change.mutate(() =>
                  api.admit(instance, from.trim(), ports.trim(), seconds, reason.trim()),
                )
              }
            >
              Let it in
            </Button>
            <span className="quiet">
              Your own address, as the cloud sees it, is found by the client:
            </span>
            <Mono>{`plumlatch instance admit ${instance} -from me -for 30m`}</Mono>
          </Space>
        </>
      )}
    </Loaded>
  );
}

/** The recorded host keys, and beside them what answers now. */
export function HostKeys({ instance }: { instance: Instance }) {
  const { message } = App.useApp();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const [asked, setAsked] = useState(false);
  const state = useQuery({
    ...queries.hostKey(instance.name, instance.address ?? ""),
    enabled: asked,
  });
  const accept = useMutation({
    mutationFn: (fp: string) => api.acceptHostKey(instance.name, fp),
    onError: (e) => void message.error(e.message, 8),
    onSettled: () => changed.hostKey(client),
  });
  const offered = state.data?.offered;
  return (
    <>
      {instance.host_keys?.length
        ? instance.host_keys.map((h) => (
            <div key={h.fingerprint}>
              {h.type} <Mono>{h.fingerprint}</Mono>{" "}
              <span className="quiet">
                {h.source}, {ago(h.recorded_at)}
              </span>
            </div>
          ))
        : "Not known: ssh is not started blindly."}
      {state.data?.former.map((h) => (
        <div key={h.fingerprint} className="former">
          {h.type} <code>{h.fingerprint}</code> until {ago(h.replaced_at ?? "")}, replaced by{" "}
          {h.replaced_by}
        </div>
      ))}
      <div className="gap">
        <Button
          size="small"
          disabled={!instance.address}
          loading={state.isFetching}
          onClick={() => (asked ? void state.refetch() : setAsked(true))}
        >
          Compare with what answers now
        </Button>
      </div>
      {state.error && <Alert type="warning" showIcon title={state.error.message} />}
      {state.data?.problem && (
        <Alert type="warning" showIcon title={"Not seen: " + state.data.problem} />
      )}
      {offered && state.data?.same && (
        <Alert type="success" showIcon title="The recorded one answers." />
      )}
      {offered && !state.data?.same && (
        <Alert
          type="warning"
          showIcon
          title="Another host key answers"
          description={
            <>
              <dl className="side-by-side">
                <dt>recorded</dt>
                <dd>{state.data?.recorded.map((h) => h.fingerprint).join(" ") || "none"}</dd>
                <dt>answers</dt>
                <dd>{offered.fingerprint}</dd>
                <dt>boot output</dt>
                <dd>{state.data?.printed.join(" ") || "has none"}</dd>
              </dl>
              <Popconfirm
                title={`Whoever answers will be trusted as ${instance.name}. Take the new one?`}
                okText="Take it"
                onConfirm={() => accept.mutate(offered.fingerprint)}
              >
                <Button size="small" disabled={!mayChange} loading={accept.isPending}>
                  It was rebuilt: take the new one
                </Button>
              </Popconfirm>
            </>
          }
        />
      )}
    </>
  );
}

/** What the instance wrote on its console, as text and nothing else. */
export function BootLog({ name }: { name: string }) {
  const [open, setOpen] = useState(false);
  const query = useQuery({
    ...queries.bootLog(name),
    enabled: open,
  });
  return (
    <Collapse
      ghost
      onChange={(keys) => setOpen(keys.length > 0)}
      items={[
        {
          key: "boot-log",
          label: "What it wrote on its console",
          children: <Loaded query={query}>{(b) => <pre>{printable(b.text)}</pre>}</Loaded>,
        },
      ]}
    />
  );
}

/** Takes control characters out: they would steer whatever the text is pasted into. */
function printable(text: string): string {
  return [...text]
    .map((c) => {
      const n = c.codePointAt(0) ?? 0;
      const steers = (n < 32 && c !== "\n") || (n >= 127 && n < 160) || bidi(n);
      return steers ? (c === "\r" ? "" : "\ufffd") : c;
    })
    .join("");
}

const bidi = (n: number) =>
  n === 0x061c ||
  (n >= 0x200e && n <= 0x200f) ||
  (n >= 0x202a && n <= 0x202e) ||
  (n >= 0x2066 && n <= 0x2069);
