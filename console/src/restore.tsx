// The ways back into an instance side by side, the way before its first step, the
// outside probe's time line, and the report.
import { Alert, Button, Checkbox, Popconfirm, Select, Table } from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, over, type Report, type RouteOffer, type UpSpan, type Work } from "./api";
import { KeyChoice } from "./choices";
import { Loaded, Mono, Title } from "./parts";
import { meanwhile, queries } from "./queries";
import { useMayChange } from "./session";
import { When } from "./when";

function span(seconds: number): string {
  if (seconds === 0) {
    return "none";
  }
  if (seconds < 1) {
    return "under 1 s";
  }
  return seconds < 90 ? `${Math.round(seconds)} s` : `${Math.round(seconds / 60)} min`;
}

function Items({ all, empty }: { all: string[]; empty: string }) {
  if (all.length === 0) {
    return <span className="quiet">{empty}</span>;
  }
  return (
    <ul className="items">
      {all.map((text) => (
        <li key={text}>{text}</li>
      ))}
    </ul>
  );
}

function Lacks({ offer }: { offer: RouteOffer }) {
  return (
    <ul className="items">
      {offer.lacking.map((l) => (
        <li key={l.what}>
          {l.what}
          {l.command && <Mono>{l.command}</Mono>}
        </li>
      ))}
    </ul>
  );
}

const rows: { name: string; of: (o: RouteOffer) => React.ReactNode }[] = [
  {
    name: "Open",
    of: (o) =>
      o.open ? (
        <strong>open</strong>
      ) : (
        <>
          not open; lacking:
          <Lacks offer={o} />
        </>
      ),
  },
  { name: "Until somebody is in", of: (o) => span(o.until_in_seconds) },
  { name: "Of that down", of: (o) => span(o.down_seconds) },
  {
    name: "Costs",
    of: (o) =>
      o.charges
        .map((c) => (c.currency ? `${Number(c.amount.toPrecision(4))} ${c.currency}` : "not known"))
        .join(" + ") || "nothing",
  },
  { name: "Needs besides", of: (o) => o.people ?? "nobody" },
  {
    name: "Rehearsed",
    of: (o) =>
      o.rehearsed ? (
        <>
          <When at={o.rehearsed.at} />:{" "}
          <Link to={`/work/${o.rehearsed.work}`}>
            {o.rehearsed.good
              ? `in after ${span(o.rehearsed.in_seconds)}, down ${span(o.rehearsed.down_seconds)}`
              : `failed: ${o.rehearsed.said}`}
          </Link>
        </>
      ) : o.rehearsable ? (
        "never"
      ) : o.route === "already-open" ? (
        <span className="quiet">cannot be: it is open, or not</span>
      ) : (
        <span className="quiet">
          never; by the client, with a hand of yours: plumlatch restore rehearse -route {o.route}
        </span>
      ),
  },
  { name: "Changes", of: (o) => <Items all={o.changes} empty="nothing but the keys" /> },
  { name: "Can be lost", of: (o) => <Items all={o.can_be_lost} empty="nothing" /> },
  { name: "Left to check", of: (o) => <Items all={o.to_check} empty="nothing" /> },
  { name: "How that is known", of: (o) => o.sure },
];

/** Every route as a column: the best first, the closed ones last. */
function SideBySide({
  offers,
  chosen,
  choose,
}: {
  offers: RouteOffer[];
  chosen: string;
  choose: (route: string) => void;
}) {
  return (
    <div className="routes">
      <table>
        <thead>
          <tr>
            <th scope="col" aria-label="what" />
            {offers.map((o) => (
              <th
                key={o.route}
                scope="col"
                className={(o.open ? "open" : "closed") + (o.route === chosen ? " chosen" : "")}
              >
                <button
                  type="button"
                  disabled={!o.open}
                  aria-pressed={o.route === chosen}
                  onClick={() => choose(o.route)}
                >
                  {o.route}
                </button>
                <div className="quiet">{o.about}</div>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.name}>
              <th scope="row">{r.name}</th>
              {offers.map((o) => (
                <td
                  key={o.route}
                  className={(o.open ? "" : "closed") + (o.route === chosen ? " chosen" : "")}
                >
                  {o.open || r.name === "Open" ? r.of(o) : ""}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** What a rehearsal of a route would take, and its beginning. */
function Rehearse({ instance, route }: { instance: string; route: string }) {
  const navigate = useNavigate();
  const mayChange = useMayChange();
  const plan = useMutation({ mutationFn: () => api.planRehearsal(instance, route) });
  const begin = useMutation({
    mutationFn: () => api.rehearse(instance, route, (plan.data?.twice ?? []).length > 0),
    onSuccess: (w) => void navigate(`/work/${w.id}`),
  });
  const error = plan.error ?? begin.error;
  const p = plan.data;
  return (
    <>
      <h2>Rehearse it first</h2>
      <p className="quiet">
        The way by {route} is carried out on a copy that nobody else reaches, measured, and all of
        it removed. {instance} runs on, and is not changed.
      </p>
      {error && <Alert type="error" showIcon title={error.message} />}
      {p ? (
        <>
          <ol className="way">
            {p.steps.map((s) => (
              <li key={s}>{s}</li>
            ))}
          </ol>
          <p>
            About {span(p.seconds)}; costs at most{" "}
            {p.charges
              .reduce((sum, c) => sum + c.amount, 0)
              .toPrecision(2)
              .replace(/\.0$/, "")}{" "}
            {p.charges[0]?.currency}.
          </p>
          {p.twice && p.twice.length > 0 && (
            <Alert
              type="warning"
              showIcon
              title="This cloud cannot shut the way out of a copy. These would run twice:"
              description={<Items all={p.twice} empty="" />}
            />
          )}
          <p className="quiet">Not shown by it:</p>
          <Items all={p.notes} empty="" />
          <p>
            <Button disabled={!mayChange} loading={begin.isPending} onClick={() => begin.mutate()}>
              Rehearse
            </Button>
          </p>
        </>
      ) : (
        <Button loading={plan.isPending} onClick={() => plan.mutate()}>
          What a rehearsal would take
        </Button>
      )}
    </>
  );
}

const copyRoute = "copy";

export function RestorePage() {
  const { name = "" } = useParams();
  const navigate = useNavigate();
  const mayChange = useMayChange();
  const [route, setRoute] = useState("");
  const [fresh, setFresh] = useState("");
  const [days, setDays] = useState(7);
  const [still, setStill] = useState(false);
  const query = useQuery(queries.routes(name));
  const begin = useMutation({
    mutationFn: (r: string) =>
      api.restore(name, {
        route: r,
        new: fresh,
        ...(r === copyRoute && { keep_seconds: days * 86400, still }),
      }),
    onSuccess: (w) => void navigate(`/work/${w.id}`),
  });
  return (
    <>
      <Title>Ways back into {name}</Title>
      <Loaded query={query}>
        {(all) => {
          const best = all.offers.find((o) => o.open);
          const chosen = all.offers.find((o) => o.route === route && o.open) ?? best;
          return (
            <>
              <p className="quiet">
                {all.lost.length > 0
                  ? `Lost or exposed: ${all.lost.join(", ")}; withdrawn once the new key is in.`
                  : "No key of it is recorded as lost, so none would be withdrawn."}{" "}
                Nothing is changed before you say so.
              </p>
              <SideBySide offers={all.offers} chosen={chosen?.route ?? ""} choose={setRoute} />
              {chosen ? (
                <>
                  <h2>The whole way by {chosen.route}</h2>
                  <ol className="way">
                    {chosen.steps.map((s) => (
                      <li key={s}>{s}</li>
                    ))}
                  </ol>
                  <p>
                    The new key, whose private half is on somebody&apos;s machine:{" "}
                    <span className="key-choice">
                      <KeyChoice value={fresh} set={setFresh} not={all.lost} />
                    </span>
                  </p>
                  {chosen.route === copyRoute && (
                    <p>
                      The old one is kept, stopped, for{" "}
                      <Select
                        aria-label="How long the old one is kept"
                        value={days}
                        onChange={setDays}
                        options={[1, 3, 7, 30, 90].map((d) => ({
                          value: d,
                          label: d === 1 ? "1 day" : `${d} days`,
                        }))}
                      />{" "}
                      <Checkbox checked={still} onChange={(e) => setStill(e.target.checked)}>
                        Stop it while its image is made
                      </Checkbox>
                    </p>
                  )}
                  <p className="quiet">
                    The client makes a pair on the spot, and shows it to work at the end:
                  </p>
                  <Mono>
                    {chosen.route === copyRoute
                      ? `plumlatch restore copy ${name} -keep ${days}d${still ? " -still" : ""}`
                      : `plumlatch restore ${name} -route ${chosen.route}`}
                  </Mono>
                  {begin.error && <Alert type="error" showIcon title={begin.error.message} />}
                  <p>
                    <Popconfirm
                      title={`Restore access to ${name} by ${chosen.route}?`}
                      okText="Restore"
                      cancelText="Not now"
                      onConfirm={() => begin.mutate(chosen.route)}
                    >
                      <Button
                        type="primary"
                        disabled={!mayChange || fresh === ""}
                        loading={begin.isPending}
                      >
                        Restore access
                      </Button>
                    </Popconfirm>
                  </p>
                  {chosen.rehearsable && (
                    <Rehearse key={chosen.route} instance={name} route={chosen.route} />
                  )}
                </>
              ) : (
                <Alert type="warning" showIcon title="No way back in is open now." />
              )}
            </>
          );
        }}
      </Loaded>
    </>
  );
}

const width = 880;

/** When the server answered an outside probe, and when not; between, nobody looked. */
function UpDown({ seen, began, now }: { seen: UpSpan[]; began: string; now: number }) {
  const first = Date.parse(began);
  const last = Math.max(now, first + 1000);
  const x = (t: number) => 60 + ((t - first) / (last - first)) * (width - 80);
  return (
    <svg className="timeline" viewBox={`0 0 ${width} 62`} role="img" aria-label="up and down">
      <text x={52} y={20} textAnchor="end">
        up
      </text>
      <text x={52} y={40} textAnchor="end">
        down
      </text>
      <line x1={60} x2={width - 20} y1={16} y2={16} className="track" />
      <line x1={60} x2={width - 20} y1={36} y2={36} className="track" />
      {seen.map((s) => {
        const from = x(Date.parse(s.from));
        return (
          <rect
            key={s.from}
            x={from}
            y={s.up ? 11 : 31}
            width={Math.max(2, x(Date.parse(s.to)) - from)}
            height={10}
            className={s.up ? "stood" : "down"}
          >
            <title>{`${s.up ? "answered" : "no answer"}, ${s.from.slice(11, 19)} to ${s.to.slice(11, 19)}`}</title>
          </rect>
        );
      })}
      <text x={60} y={58}>
        {began.slice(11, 19)}
      </text>
      <text x={width - 20} y={58} textAnchor="end">
        {new Date(last).toISOString().slice(11, 19)} UTC
      </text>
    </svg>
  );
}

/** The outside probe of a restore, live, and where its report is. */
export function LiveRestore({ work }: { work: Work }) {
  const query = useQuery({
    ...queries.report(work.id),
    refetchInterval: over(work) ? false : meanwhile,
    enabled: work.restores ?? false,
  });
  if (!work.restores) {
    return null;
  }
  return (
    <Loaded query={query}>
      {(r) => (
        <>
          <h2>Seen from outside</h2>
          <UpDown
            seen={r.seen}
            began={r.began_at}
            now={r.ended_at ? Date.parse(r.ended_at) : query.dataUpdatedAt}
          />
          <p className="quiet">
            Down for {r.down_seconds.toFixed(1)} s, measured by connecting from outside
            {r.not_seen_seconds > 1 &&
              `; for ${r.not_seen_seconds.toFixed(0)} s nobody looked`}.{" "}
            <Link to={`/work/${work.id}/report`}>The report</Link>
          </p>
        </>
      )}
    </Loaded>
  );
}

function Facts({ r }: { r: Report }) {
  const facts: [string, string][] = [
    ["Lost", r.lost.join(", ") || "no key was recorded as lost"],
    ["New key", `${r.new}, for ${r.login_user}`],
    ["Route", `${r.route} (${r.why})`],
    ["By", r.operator],
    ["Outcome", `${r.state}: ${r.outcome}`],
    ["Begun", r.began_at.replace("T", " ").slice(0, 19) + " UTC"],
    [
      "The new key accepted",
      r.in_at
        ? `after ${((Date.parse(r.in_at) - Date.parse(r.began_at)) / 1000).toFixed(1)} s`
        : "never",
    ],
    ["Down, measured from outside", `${r.down_seconds.toFixed(1)} s`],
    ["Not looked at", `${r.not_seen_seconds.toFixed(1)} s`],
    [
      "Cost",
      r.charges
        .map(
          (c) => `${c.what}: ${c.currency ? `${c.amount.toFixed(3)} ${c.currency}` : "not known"}`,
        )
        .join("; ") || "nothing",
    ],
    ["Goes on costing", r.goes_on.join("; ") || "nothing"],
  ];
  return (
    <dl className="facts">
      {facts.map(([k, v]) => (
        <div key={k}>
          <dt>{k}</dt>
          <dd>{v}</dd>
        </div>
      ))}
    </dl>
  );
}

export function ReportPage() {
  const { id = "" } = useParams();
  const query = useQuery(queries.report(Number(id)));
  return (
    <Loaded query={query}>
      {(r) => (
        <div className="report">
          <Title actions={<Button onClick={() => print()}>Print</Button>}>
            Access to {r.instance}, restored
          </Title>
          <Facts r={r} />
          <UpDown
            seen={r.seen}
            began={r.began_at}
            now={r.ended_at ? Date.parse(r.ended_at) : query.dataUpdatedAt}
          />
          <h2>Steps</h2>
          <Table
            size="small"
            rowKey="name"
            pagination={false}
            dataSource={r.steps}
            columns={[
              { title: "Step", dataIndex: "title" },
              { title: "State", dataIndex: "state" },
              {
                title: "Took",
                render: (_, s) =>
                  s.began_at && s.ended_at
                    ? `${((Date.parse(s.ended_at) - Date.parse(s.began_at)) / 1000).toFixed(1)} s`
                    : "",
              },
            ]}
          />
          <h2>Withdrawn</h2>
          <Items all={r.withdrawn} empty="nothing" />
          <h2>Changed</h2>
          <Items all={r.changed} empty="nothing but the keys" />
          <h2>Checks</h2>
          <Items
            all={r.checks.map(
              (c) => `${c.check}: ${c.good ? "works" : "DOES NOT WORK"} (${c.said})`,
            )}
            empty="none were given"
          />
          <h2>Left to do or to check</h2>
          <Items all={r.left} empty="nothing" />
          <p className="quiet no-print">
            <Link to={`/work/${r.work}`}>work {r.work}</Link>
          </p>
        </div>
      )}
    </Loaded>
  );
}
