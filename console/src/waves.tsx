// Work on many instances: its waves as they fill, and the page that begins one.
import { Alert, App, Button, Form, InputNumber, Popconfirm, Select, Table, Tooltip } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type FleetMember, type FleetPlan, type FleetRequest, over, type Work } from "./api";
import { KeyChoice } from "./choices";
import { Loaded, Mono, Nothing, Title } from "./parts";
import { changed, meanwhile, queries } from "./queries";
import { graces, Line } from "./rotation";
import { useMayChange } from "./session";

const about: Record<string, string> = {
  "to do": "not begun",
  going: "under way",
  shown: "shown to work",
  "back later": "out of reach: taken when it is back",
  failed: "failed, or went back",
};

/** Every wave as a row of cells, one cell an instance. */
export function Waves({ plan }: { plan: FleetPlan }) {
  return (
    <div className="waves">
      {plan.waves.map((w) => (
        <div key={w.wave} className="wave">
          <span className="wave-name">wave {w.wave}</span>
          <span className="cells">
            {plan.members
              .filter((m) => m.wave === w.wave)
              .map((m) => (
                <Tooltip
                  key={m.instance + m.old}
                  title={`${m.instance}: ${about[m.state] ?? m.state}${m.note ? "; " + m.note : ""}`}
                >
                  <Link
                    to={m.work ? `/work/${m.work}` : `/instances/${m.instance}`}
                    className={"cell " + m.state.replace(" ", "-")}
                    aria-label={`${m.instance}: ${about[m.state] ?? m.state}`}
                  />
                </Tooltip>
              ))}
          </span>
          <span className="quiet">
            {w.shown} of {w.all}
            {w.failed > 0 && `, ${w.failed} failed`}
            {w.later > 0 && `, ${w.later} later`}
          </span>
        </div>
      ))}
      <p className="legend quiet">
        {Object.entries(about).map(([state, text]) => (
          <span key={state}>
            <span className={"cell " + state.replace(" ", "-")} aria-hidden /> {text}
          </span>
        ))}
      </p>
    </div>
  );
}

/** The waves of a piece of work at hand, with what can be said to it. */
export function LiveWaves({ work }: { work: Work }) {
  const { message } = App.useApp();
  const mayChange = useMayChange();
  const client = useQueryClient();
  const query = useQuery({
    ...queries.waves(work.id),
    refetchInterval: over(work) ? false : meanwhile,
    enabled: work.waves ?? false,
  });
  const ask = useMutation({
    mutationFn: (f: (id: number) => Promise<Work>) => f(work.id),
    onSuccess: () => changed.workEnded(client, work.id),
    onError: (e) => void message.error(e.message),
  });
  if (!work.waves) {
    return null;
  }
  const stopped = work.waits_code === "go-on";
  const word = work.waits_code === "word";
  return (
    <Loaded query={query}>
      {(p) => (
        <>
          <Waves plan={p} />
          {!over(work) && (
            <p className="buttons">
              {word && (
                <Button
                  type="primary"
                  disabled={!mayChange}
                  onClick={() => ask.mutate(api.giveWord)}
                >
                  Let it begin, as another operator
                </Button>
              )}
              <Button disabled={!mayChange || stopped} onClick={() => ask.mutate(api.pause)}>
                Pause
              </Button>
              <Button
                type={stopped ? "primary" : "default"}
                disabled={!mayChange || !stopped}
                onClick={() => ask.mutate(api.goOn)}
              >
                Go on
              </Button>
              <Popconfirm
                title="Take back what can go back, the last wave first?"
                okText="Go back"
                cancelText="Not now"
                onConfirm={() => ask.mutate(api.cancelWork)}
              >
                <Button danger disabled={!mayChange || work.cancel_asked || work.going_back}>
                  Go back
                </Button>
              </Popconfirm>
            </p>
          )}
          <Troubles members={p.members} />
        </>
      )}
    </Loaded>
  );
}

function Troubles({ members }: { members: FleetMember[] }) {
  const rows = members.filter((m) => m.state === "failed" || m.state === "back later");
  if (rows.length === 0) {
    return null;
  }
  return (
    <Table<FleetMember>
      size="small"
      rowKey={(m) => m.instance + m.old}
      dataSource={rows}
      pagination={rows.length > 20 && { pageSize: 20 }}
      columns={[
        {
          title: "Instance",
          render: (_, m) => <Link to={"/instances/" + m.instance}>{m.instance}</Link>,
        },
        { title: "State", render: (_, m) => about[m.state] },
        { title: "Why", dataIndex: "note" },
        { title: "Next", render: (_, m) => <Mono>{`plumlatch why ${m.instance}`}</Mono> },
      ]}
    />
  );
}

/** What will happen where, before anything does. */
export function PlanTable({ plan }: { plan: FleetPlan }) {
  if (plan.members.length === 0) {
    return <Nothing>There is no instance to do it on.</Nothing>;
  }
  return (
    <>
      <Waves plan={plan} />
      {plan.word && (
        <Alert
          type="warning"
          showIcon
          className="gap"
          title={`The policy asks for a word before this begins: ${plan.word}.`}
        />
      )}
      <Table<FleetMember>
        size="small"
        rowKey={(m) => m.instance + m.old}
        dataSource={plan.members}
        pagination={plan.members.length > 20 && { pageSize: 20 }}
        columns={[
          { title: "Wave", render: (_, m) => m.wave || "\u2014" },
          { title: "Instance", dataIndex: "instance" },
          { title: "Old", dataIndex: "old" },
          { title: "New", dataIndex: "new" },
          {
            title: "Note",
            render: (_, m) =>
              [
                m.state === "left out" ? "left out" : "",
                m.note ?? "",
                m.sole ? "the only key of a person there" : "",
              ]
                .filter(Boolean)
                .join("; "),
          },
        ]}
      />
    </>
  );
}

/** A rotation of many, chosen, shown, and begun. */
export function RotateManyPage() {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const mayChange = useMayChange();
  const [old, setOld] = useState(params.get("key") ?? "");
  const [tag, setTag] = useState(params.get("tag") ?? "");
  const [fresh, setFresh] = useState("");
  const [grace, setGrace] = useState(86_400);
  const [first, setFirst] = useState(1);
  const [most, setMost] = useState("10%");
  const request: FleetRequest = {
    key: old,
    tag,
    new: fresh,
    grace_seconds: grace,
    first,
    at_most: most,
  };
  const plan = useQuery({
    ...queries.fleetPlan(request),
    enabled: old + tag !== "" && fresh !== "",
  });
  const begin = useMutation({
    mutationFn: () => api.rotateMany(request),
    onSuccess: (w) => void navigate(`/work/${w.id}`),
  });
  return (
    <>
      <Title>Rotate on many instances</Title>
      <Form layout="vertical" className="choices-line">
        <Form.Item label="Old key, wherever it opens">
          <KeyChoice value={old} set={setOld} any />
        </Form.Item>
        <Line label="Tag of the instances" value={tag} set={setTag} placeholder="role=gate" />
        <Form.Item label="New key">
          <KeyChoice value={fresh} set={setFresh} not={[old]} />
        </Form.Item>
        <Form.Item label="The old one is accepted besides, for">
          <Select
            aria-label="how long the old one is accepted besides"
            value={grace}
            onChange={setGrace}
            options={graces}
          />
        </Form.Item>
        <Form.Item label="First wave">
          <InputNumber
            aria-label="size of the first wave"
            min={1}
            value={first}
            onChange={(v) => setFirst(v ?? 1)}
          />
        </Form.Item>
        <Line label="At most in one wave" value={most} set={setMost} />
      </Form>
      {old + tag === "" || fresh === "" ? (
        <p className="quiet">Choose what is replaced, and by what: it is shown before it begins.</p>
      ) : (
        <Loaded query={plan}>
          {(p) => (
            <>
              <PlanTable plan={p} />
              {begin.error && <Alert type="error" showIcon title={begin.error.message} />}
              <p>
                <Button
                  type="primary"
                  disabled={!mayChange || p.waves.length === 0}
                  loading={begin.isPending}
                  onClick={() => begin.mutate()}
                >
                  Rotate
                </Button>{" "}
                <span className="quiet">
                  Its holder shows the new key once, then: <code>plumlatch key prove {fresh}</code>
                </span>
              </p>
            </>
          )}
        </Loaded>
      )}
    </>
  );
}

/** An exposed key, step by step: contain, replace, and what else was found. */
export function ExposedPage() {
  const { name = "" } = useParams();
  const navigate = useNavigate();
  const mayChange = useMayChange();
  const [fresh, setFresh] = useState("");
  const [from, setFrom] = useState("");
  const key = useQuery(queries.key(name));
  const request: FleetRequest = {
    key: name,
    new: fresh,
    exposed: true,
    contain: from === "" ? [] : from.split(","),
  };
  const plan = useQuery({
    ...queries.fleetPlan({ ...request, contain: [] }),
    enabled: key.data?.state === "exposed",
  });
  const begin = useMutation({
    mutationFn: () => api.rotateMany(request),
    onSuccess: (w) => void navigate(`/work/${w.id}`),
  });
  return (
    <>
      <Title>
        {key.data?.state === "exposed"
          ? `${name} is exposed: somebody else may have it`
          : `If ${name} is exposed: contain it, and replace it`}
      </Title>
      {key.data && key.data.state !== "exposed" && (
        <Alert
          type="warning"
          showIcon
          title={`It is recorded as ${key.data.state}.`}
          description={
            <>
              Record first that it is exposed, on <Link to={"/keys/" + name}>its page</Link>.
            </>
          }
        />
      )}
      <ol className="guide">
        <li>
          <h2>Contain it</h2>
          <p>
            Until it is replaced, its lines are taken from these networks alone, wherever another
            key of a person was shown to be a way in: that cuts nobody off. Where it is the only way
            in, it stays as it is until the new one works. Leave it empty to go straight to the
            replacement.
          </p>
          <Form layout="vertical" className="choices-line">
            <Line
              label="Networks of whoever rightly has it, separated by commas"
              value={from}
              set={setFrom}
              placeholder="198.51.100.7/32"
              aria-label="networks that it is taken from"
            />
          </Form>
        </li>
        <li>
          <h2>Replace it everywhere at once</h2>
          <p>
            No grace: it is withdrawn as soon as the new key is shown to work. What is out of reach
            is taken when it is back, and stays first on Today until then.
          </p>
          <Form layout="vertical" className="choices-line">
            <Form.Item label="New key">
              <KeyChoice value={fresh} set={setFresh} not={[name]} />
            </Form.Item>
          </Form>
          {plan.data && <PlanTable plan={plan.data} />}
          {plan.error && <Alert type="error" showIcon title={plan.error.message} />}
          {begin.error && <Alert type="error" showIcon title={begin.error.message} />}
          <p>
            <Button
              type="primary"
              danger
              disabled={!mayChange || fresh === "" || !plan.data || plan.data.waves.length === 0}
              loading={begin.isPending}
              onClick={() => begin.mutate()}
            >
              Contain and replace
            </Button>{" "}
            <span className="quiet">
              Its holder shows the new key: <code>plumlatch key prove {fresh || "NEW"}</code>
            </span>
          </p>
        </li>
        <li>
          <h2>What else was found</h2>
          <p>
            Sessions that it opened go on: a key is asked for at the login alone. From where the new
            key&apos;s private half is, this ends them:
          </p>
          <Mono>{`plumlatch rotate exposed ${name} -new ${fresh || "NEW"} -end-sessions`}</Mono>
          {(plan.data?.found?.length ?? 0) > 0 ? (
            <>
              <p>Keys there that nobody wrote down; whoever had it may have left them:</p>
              <Table
                size="small"
                rowKey={(f) => f.instance + f.fingerprint}
                dataSource={plan.data?.found}
                pagination={false}
                columns={[
                  {
                    title: "Instance",
                    render: (_, f) => <Link to={"/instances/" + f.instance}>{f.instance}</Link>,
                  },
                  { title: "Fingerprint", render: (_, f) => <code>{f.fingerprint}</code> },
                  { title: "Comment", dataIndex: "comment" },
                  { title: "Since", render: (_, f) => f.since.slice(0, 16).replace("T", " ") },
                ]}
              />
            </>
          ) : (
            <p className="quiet">
              No key there is known that nobody wrote down. A survey looks again.
            </p>
          )}
          <p>
            Once this begins, the host keys of these instances are doubtful: whoever had the key may
            have read their private halves. They are on{" "}
            <Link to="/today?reason=host-key-doubtful">Today</Link> until somebody made new ones, or
            took the same again.
          </p>
        </li>
      </ol>
    </>
  );
}
