import {
  Alert,
  App,
  Button,
  Collapse,
  Descriptions,
  Input,
  Popconfirm,
  Select,
  Space,
  Spin,
  type TableColumnsType,
  Tag,
} from "antd";
import { RegionChoice } from "./choices";
import { Link, useNavigate, useParams } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { OpeningOf } from "./access";
import { type Agent, api, type Instance } from "./api";
import { BootLog, HostKeys, Rules } from "./doors";
import { ServerTable } from "./list";
import { useParam } from "./param";
import { Loaded, Mono, Nothing, Title } from "./parts";
import { changed, meanwhile, queries } from "./queries";
import { useMayChange } from "./session";
import { Streams } from "./streams";
import { ago } from "./text";
import { Surveys } from "./surveys";
import { Timeline } from "./timeline";
import { Matters } from "./today";
import { When } from "./when";
import { WorkCard } from "./work";

const busy = (i: Instance) => i.phase !== "ready" && i.phase !== "failed";

/** Whose word changes something there, as the client says it. */
function agentTrust(a: Agent): string {
  if (!a.verbs?.some((v) => v !== "look" && v !== "stream")) return "it changes nothing";
  if (a.trust === "service")
    return "it changes what the service asks for: whoever has the service has this instance";
  if (a.frozen)
    return "it changes nothing: its owner's file names no operator whose signature it takes";
  return "it changes only what an operator has signed whom its owner's file names";
}

/** What is known of the resident agent of an instance. */
function AgentOf({ instance }: { instance: string }) {
  const agent = useQuery(queries.agent(instance));
  return (
    <Loaded query={agent}>
      {(a) =>
        !a.enrolled ? (
          <p>
            It has none.{" "}
            {a.service && <Mono>{`plumlatch instance agent install ${a.instance}`}</Mono>}
          </p>
        ) : (
          <>
            <p>
              {a.connected ? (
                <>
                  Connected, from <code>{a.address}</code>, since <When at={a.connected_at!} />.
                </>
              ) : a.seen_at ? (
                <>
                  Not connected; last seen <When at={a.seen_at} />.
                </>
              ) : (
                "It never connected."
              )}{" "}
              Its key is <code>{a.fingerprint}</code>.
            </p>
            {a.connected_at && (
              <p>
                Its owner&apos;s file allows {a.verbs?.join(", ") || "nothing"}
                {a.never?.length ? `, and nothing to ${a.never.join(", ")}` : ""}; {agentTrust(a)}.
              </p>
            )}
            {a.refused_at && (
              <Alert
                type="warning"
                showIcon
                title={`Another machine came with its key from ${a.refused_from}, ${ago(a.refused_at)}, and was refused: it is a copy of this one, or has its key.`}
              />
            )}
          </>
        )
      }
    </Loaded>
  );
}

function State({ instance }: { instance: Instance }) {
  return (
    <Space size={4}>
      {busy(instance) && <Spin size="small" />}
      <span className={"state " + instance.state}>{instance.state}</span>
      {instance.progress && <span className="quiet">{instance.progress}</span>}
      {instance.trouble && !busy(instance) && <Tag color="warning">trouble</Tag>}
    </Space>
  );
}

const columns: TableColumnsType<Instance> = [
  {
    title: "Instance",
    key: "name",
    sorter: true,
    render: (_, i) => <Link to={"/instances/" + i.name}>{i.name}</Link>,
  },
  { title: "State", render: (_, i) => <State instance={i} /> },
  { title: "Region", key: "region", sorter: true, dataIndex: "region" },
  {
    title: "Address",
    render: (_, i) =>
      i.address ? (
        <code>
          {i.address}
          {i.port === 22 ? "" : ` port ${i.port}`}
        </code>
      ) : (
        <span className="quiet">none</span>
      ),
  },
  { title: "Login user", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
  { title: "Image", dataIndex: "image" },
  { title: "Size", dataIndex: "size" },
  {
    title: "Keys",
    align: "right",
    render: (_, i) => (i.keys === 0 ? <span className="attention">none</span> : i.keys),
  },
  { title: "Launched", key: "created", sorter: true, render: (_, i) => ago(i.created_at) },
];

export function InstancesPage() {
  const [text, setText] = useParam("q");
  const [region, setRegion] = useParam("region");
  const [state, setState] = useParam("state");
  const [key, setKey] = useParam("key");
  const mayChange = useMayChange();
  const navigate = useNavigate();
  const button = (
    <>
      <Button disabled={!mayChange} onClick={() => void navigate("/adopt")}>
        Adopt one that is there
      </Button>
      <Button type="primary" disabled={!mayChange} onClick={() => void navigate("/launch")}>
        Launch an instance
      </Button>
    </>
  );
  return (
    <>
      <Title actions={button}>Instances</Title>
      <Space className="filters">
        <Input.Search
          allowClear
          placeholder="name or address"
          aria-label="name or address"
          defaultValue={text}
          onSearch={(v) => setText(v)}
        />
        <RegionChoice value={region} set={setRegion} />
        <Select
          allowClear
          placeholder="state"
          aria-label="state"
          value={state || undefined}
          onChange={(v?: string) => setState(v)}
          options={["running", "stopped", "pending", "failed"].map((v) => ({ value: v, label: v }))}
        />
        {key && (
          <Tag closable onClose={() => setKey(undefined)}>
            opened by {key}
          </Tag>
        )}
      </Space>
      <ServerTable
        key={[text, region, state, key].join(" ")}
        list={queries.instances}
        columns={columns}
        rowKey="name"
        filters={["q", "region", "state", "key"]}
        refresh={(rows) => (rows.some(busy) ? meanwhile : 15_000)}
        empty={
          <Nothing action={button}>
            No instance. Launch the first one with a key of yours, or adopt one.
          </Nothing>
        }
      />
    </>
  );
}

/** What is known of an instance without SSH: nothing is claimed of who knows its password. */
function FirstPassword({ instance: i }: { instance: Instance }) {
  const { message } = App.useApp();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const change = useMutation({
    mutationFn: () => api.passwordChanged(i.name),
    onSuccess: () => changed.instance(client),
    onError: (e) => void message.error(e.message),
  });
  const p = i.first_password;
  const key = p?.key || p?.fingerprint || "a key that the ledger does not know";
  return (
    <>
      <p>
        It has no SSH: no key opens it, and nobody of ours sees who knows its password. People come
        in by remote desktop{i.address ? `, at ${i.address} port ${i.port}` : ""}, as{" "}
        <code>{i.login_user}</code>.
      </p>
      {p?.changed_at ? (
        <p>
          Its first password was recorded as changed {ago(p.changed_at)} by {p.changed_by}; {key} no
          longer matters to it.
        </p>
      ) : (
        <>
          <p>
            Its first password is encrypted to {key}. It is decrypted on the machine that has that
            key&apos;s private half, and nowhere else:
          </p>
          <div className="way-in">
            <Mono label="Copy the command">{`plumlatch instance password ${i.name}`}</Mono>
            <Popconfirm
              title={`Was the first password of ${i.name} changed there?`}
              okText="It was changed"
              onConfirm={() => change.mutate()}
            >
              <Button disabled={!mayChange}>It was changed</Button>
            </Popconfirm>
          </div>
        </>
      )}
      {p?.handed_at && (
        <p className="quiet">
          Last handed over, encrypted, {ago(p.handed_at)} to {p.handed_to}.
        </p>
      )}
    </>
  );
}

export function InstancePage() {
  const { name = "" } = useParams();
  const { message } = App.useApp();
  const navigate = useNavigate();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const query = useQuery(queries.instance(name));
  const change = useMutation({
    mutationFn: (f: (n: string) => Promise<Instance>) => f(name),
    onSuccess: () => changed.instance(client),
    onError: (e) => void message.error(e.message),
  });
  const remove = () => {
    change.mutate(api.remove, { onSuccess: () => void navigate("/instances") });
  };
  return (
    <Loaded query={query}>
      {(i) => (
        <>
          <Title
            actions={
              <>
                {!i.desktop && (
                  <>
                    <Button
                      disabled={!mayChange || i.state !== "running"}
                      onClick={() => void navigate(`/shells?instance=${i.name}`)}
                    >
                      Open a shell
                    </Button>
                    <Button
                      disabled={!mayChange || busy(i)}
                      onClick={() => void navigate(`/instances/${i.name}/rotate`)}
                    >
                      Rotate a key
                    </Button>
                    <Button onClick={() => void navigate(`/instances/${i.name}/restore`)}>
                      Ways back in
                    </Button>
                    <Button onClick={() => void navigate(`/instances/${i.name}/why`)}>
                      Why can&apos;t I get in?
                    </Button>
                  </>
                )}
                {i.state === "running" && !i.adopted && (
                  <Button disabled={!mayChange || busy(i)} onClick={() => change.mutate(api.stop)}>
                    Stop
                  </Button>
                )}
                {i.state === "stopped" && (
                  <Button disabled={!mayChange || busy(i)} onClick={() => change.mutate(api.start)}>
                    Start
                  </Button>
                )}
                <Popconfirm
                  title={
                    i.adopted
                      ? `Forget ${i.name}? The machine stays; the steward's line is taken out of it.`
                      : `Remove ${i.name} and its root volume, for good?`
                  }
                  okText={i.adopted ? "Forget" : "Remove"}
                  onConfirm={remove}
                >
                  <Button danger disabled={!mayChange || busy(i)}>
                    {i.adopted ? "Forget" : "Remove"}
                  </Button>
                </Popconfirm>
              </>
            }
          >
            {i.name} <State instance={i} />
          </Title>
          {i.trouble && i.state !== "failed" && (
            <Alert type="warning" showIcon title={i.trouble} className="gap" />
          )}
          <h2>Getting in</h2>
          {i.desktop ? (
            <FirstPassword instance={i} />
          ) : i.state === "running" && (i.host_keys?.length ?? 0) > 0 && i.keys > 0 ? (
            <div className="way-in">
              <span>Get in:</span>
              <Mono label="Copy the command">{`plumlatch open ${i.name}`}</Mono>
              <span className="quiet">
                or, once <code>plumlatch hosts write</code> was used, plain
              </span>
              <Mono label="Copy the plain command">{`ssh ${i.name}`}</Mono>
              <span className="quiet">
                runs this machine&apos;s own ssh as <code>{i.login_user}</code> to{" "}
                <code>
                  {i.address} port {i.port}
                </code>
                , with the host key pinned
              </span>
            </div>
          ) : (
            <p>
              {busy(i)
                ? "It is on its way: see below what goes on."
                : i.state !== "running"
                  ? `It is ${i.state}: nobody gets in.`
                  : i.keys === 0
                    ? "No key is recorded to open it."
                    : "No host key of it is known, so nobody can be sure that it is the one."}{" "}
              <Link to={`/instances/${i.name}/why`}>Why</Link>, and{" "}
              <Link to={`/instances/${i.name}/restore`}>the ways back in</Link>.
            </p>
          )}
          {!i.desktop && (
            <>
              <h2>What opens it</h2>
              <OpeningOf instance={i.name} />
              <h2>What the surveys saw</h2>
              <Surveys instance={i} />
            </>
          )}
          <h2>What goes on, and what needs a hand</h2>
          <Streams instance={i.name} />
          {!!i.work && (busy(i) || i.state === "failed") && <WorkCard id={i.work} />}
          <Matters of={{ instance: i.name }} />
          <p>
            <Link to={"/work?instance=" + i.name}>All work on it</Link>
          </p>
          <h2>What happened to its keys</h2>
          <Timeline what="instances" name={i.name} />
          <h2>About it</h2>
          <Descriptions
            bordered
            size="small"
            column={2}
            items={[
              ...(i.old_machines ?? []).map((old) => ({
                label: "Old machine",
                children: (
                  <>
                    <code>{old.cloud_id}</code>, kept until <When at={old.until} />,{" "}
                    {old.week_price} {old.currency} a week;{" "}
                    <Link to={`/work/${old.work}`}>go back to it, or remove it</Link>
                  </>
                ),
              })),
              ...(i.adopted
                ? [{ label: "Origin", children: "adopted: it was there before" }]
                : [{ label: "Region", children: i.zone ? `${i.region}, ${i.zone}` : i.region }]),
              {
                label: "Address",
                children: i.address ? (
                  <>
                    <Mono>{i.address}</Mono> port {i.port}
                  </>
                ) : i.state === "stopped" ? (
                  "none while it is stopped"
                ) : (
                  "none yet"
                ),
              },
              ...(i.adopted
                ? [
                    { label: "Privilege", children: i.privilege || "not seen" },
                    {
                      label: "Files that its server reads",
                      children: <code>{i.keys_files?.join(", ")}</code>,
                    },
                    ...(i.via
                      ? [
                          {
                            label: "Through",
                            children: `${i.via.login_user}@${i.via.address} port ${i.via.port}`,
                          },
                        ]
                      : []),
                  ]
                : [
                    { label: "Image", children: i.image },
                    {
                      label: "Size",
                      children: i.disk_gb ? `${i.size}, root volume of ${i.disk_gb} GiB` : i.size,
                    },
                  ]),
              { label: "Login user", children: <code>{i.login_user}</code> },
              ...(i.tags && Object.keys(i.tags).length > 0
                ? [
                    {
                      label: "Tags",
                      children: Object.entries(i.tags).map(([k, v]) => (
                        <Tag key={k}>
                          {k}={v}
                        </Tag>
                      )),
                    },
                  ]
                : []),
              {
                label: i.adopted ? "Adopted" : "Launched",
                children: `${ago(i.created_at)} by ${i.created_by}`,
              },
            ]}
          />
          {!i.desktop && (
            <>
              <h2>Its host key</h2>
              <HostKeys instance={i} />
            </>
          )}
          {!i.adopted && i.cloud_id && (
            <>
              <h2>Who gets to its ports</h2>
              <Rules instance={i.name} />
            </>
          )}
          {(i.addresses?.length ?? 0) > 0 && (
            <>
              <h2>Its addresses</h2>
              <ul className="addresses">
                {i.addresses?.map((a) => (
                  <li key={a.since}>
                    <code>{a.address}</code>{" "}
                    <span className="quiet">
                      {a.until
                        ? `from ${ago(a.since)} until ${ago(a.until)}; it may be a stranger's now`
                        : `since ${ago(a.since)}`}
                      {a.static && "; static: it stays until it is moved or released"}
                    </span>
                  </li>
                ))}
              </ul>
            </>
          )}
          {!i.desktop && (
            <>
              <h2>Its agent</h2>
              <AgentOf instance={i.name} />
            </>
          )}
          {!i.adopted && i.cloud_id && <BootLog name={i.name} />}
          <Collapse
            ghost
            className="gap"
            style={{ display: i.user_data ? undefined : "none" }}
            items={[
              {
                key: "user-data",
                label: "What its first boot read",
                children: <pre>{i.user_data}</pre>,
              },
            ]}
          />
        </>
      )}
    </Loaded>
  );
}
