// What opens an instance, or what a key opens.
import { HolderChoice, RegionChoice } from "./choices";
import { Select, Space, Table, type TableColumnsType, Tooltip } from "antd";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import type { Access, Opening, Sighted } from "./api";
import { ServerTable } from "./list";
import { useParam } from "./param";
import { Bitting, Evidence, Known } from "./marks";
import { Loaded, Nothing, Scrolled, Title } from "./parts";
import { queries } from "./queries";
import { ago, until } from "./text";

/** Milliseconds until its end; 0 for none, or one that has come. */
const left = (a: Access) => (a.until ? Math.max(0, Date.parse(a.until) - Date.now()) : 0);

/** A bar of the time that is left, beside the longest of the table; full and quiet without an end. */
function TimeLeft({ of: a, longest }: { of: Access; longest: number }) {
  const part = a.until ? (longest > 0 ? left(a) / longest : 0) : 1;
  const text = a.until ? `ends ${until(a.until)}` : "no end";
  return (
    <Tooltip title={a.until ? `${a.until}${a.reason ? "; " + a.reason : ""}` : "it has no end"}>
      <span className={"time-left" + (a.until ? " ends" : "")}>
        <span style={{ inlineSize: `${Math.max(2, part * 100)}%` }} />
      </span>{" "}
      <span className="quiet">{text}</span>
    </Tooltip>
  );
}

/** A key with what makes it more, or less, than a key in use: exposed, lost, retired. */
function KeyName({ of: a }: { of: Pick<Access, "key" | "key_state"> }) {
  const odd = a.key_state !== undefined && a.key_state !== "" && a.key_state !== "in use";
  return (
    <>
      <Link to={"/keys/" + a.key}>{a.key}</Link>
      {odd && <span className="attention"> ({a.key_state})</span>}
    </>
  );
}

/** When the instance's own log says that a key came in: its word, which counts nowhere as a way in. */
function LastUsed({ of: a }: { of: Access }) {
  if (!a.used) {
    return <span className="quiet">not seen</span>;
  }
  return (
    <>
      {ago(a.used.last)}
      {!a.used.trusted && <span className="quiet">, as a text file says</span>}
    </>
  );
}

/** What is on record: of an instance its keys, of a key its instances. */
function Recorded({ rows, of }: { rows: Access[]; of: "instance" | "key" }) {
  const longest = Math.max(0, ...rows.map((a) => left(a)));
  const columns: TableColumnsType<Access> = [
    of === "instance"
      ? {
          title: "Key",
          render: (_, a) =>
            a.steward ? (
              <span className="quiet">steward: the service&apos;s own, SFTP only</span>
            ) : (
              <KeyName of={a} />
            ),
        }
      : {
          title: "Instance",
          render: (_, a) => <Link to={"/instances/" + a.instance}>{a.instance}</Link>,
        },
    of === "instance"
      ? { title: "Bitting", render: (_, a) => <Bitting cuts={a.cuts} /> }
      : { title: "Region", dataIndex: "region" },
    { title: "Kind", dataIndex: "kind" },
    { title: "Login user", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
    { title: "Evidence", render: (_, a) => <Evidence access={a} /> },
    { title: "Known", render: (_, a) => <Known access={a} /> },
    { title: "Last used", render: (_, a) => <LastUsed of={a} /> },
    { title: "Time left", render: (_, a) => <TimeLeft of={a} longest={longest} /> },
  ];
  return (
    <Table<Access>
      size="small"
      rowKey="id"
      columns={columns}
      dataSource={rows}
      pagination={false}
      scroll={{ x: "max-content" }}
    />
  );
}

const limits: Record<string, string> = {
  expired: "its end has come",
  command: "one command only",
  from: "from some addresses only",
  authority: "vouches for other keys",
};

/** Keys that stand in files, or stood there, and that nobody recorded there. */
function Found({ rows, of, title }: { rows: Sighted[]; of: "instance" | "key"; title: string }) {
  if (rows.length === 0) {
    return null;
  }
  const columns: TableColumnsType<Sighted> = [
    of === "instance"
      ? {
          title: "Key",
          render: (_, x) =>
            x.key ? (
              <KeyName of={{ key: x.key, key_state: x.state }} />
            ) : (
              x.comment || x.fingerprint
            ),
        }
      : {
          title: "Instance",
          render: (_, x) => <Link to={"/instances/" + x.instance}>{x.instance}</Link>,
        },
    { title: "Login user", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
    { title: "Stands in", render: (_, x) => <code>{`${x.file}:${x.line}`}</code> },
    { title: "Seen", render: (_, x) => `${ago(x.gone ?? x.seen)} by ${x.from}` },
    { title: "Since", render: (_, x) => ago(x.since) },
    { title: "Limits", render: (_, x) => (x.limits ? limits[x.limits] : "none") },
  ];
  return (
    <>
      <h3>{title}</h3>
      <Scrolled label={title}>
        <Table<Sighted>
          size="small"
          rowKey={(x) => `${x.instance} ${x.login_user} ${x.fingerprint} ${x.since}`}
          columns={columns}
          dataSource={rows}
          pagination={false}
        />
      </Scrolled>
    </>
  );
}

/** What all of it comes to, in a sentence. */
function sumOf(o: Opening): string {
  if (o.nobody) {
    return "Nothing is known that lets people in.";
  }
  if (o.sole) {
    return `${o.sole} is the only way in for people${o.besides ? `; and besides, ${o.besides}` : ""}.`;
  }
  if (o.people === 0) {
    const what = o.keys.some((k) => k.until)
      ? "has an end, or nobody recorded,"
      : "nobody recorded";
    return `Only what ${what} lets people in: ${o.besides}.`;
  }
  return `${o.people} keys of people open it${o.besides ? `; and besides: ${o.besides}` : ""}.`;
}

/** The answer to "what opens this instance": on record, found, and other doors. */
export function OpeningOf({ instance }: { instance: string }) {
  const query = useQuery(queries.opening(instance));
  return (
    <Loaded query={query}>
      {(o) => (
        <>
          <p>
            {sumOf(o)}{" "}
            {o.not_seen && <span className="quiet">There may be more: {o.not_seen}.</span>}
          </p>
          {o.keys.length === 0 ? (
            <Nothing>No key is recorded for it.</Nothing>
          ) : (
            <Recorded rows={o.keys} of="instance" />
          )}
          {o.log_read && (
            <p className="quiet">
              Its log of logins ({o.log_read.source}) was read {ago(o.log_read.read_at)} by{" "}
              {o.log_read.vantage}
              {o.log_read.since && `; it begins ${ago(o.log_read.since)}`}.
            </p>
          )}
          <Found rows={o.unrecorded} of="instance" title="Keys that nobody recorded" />
          {o.doors.length > 0 && (
            <>
              <h3>Other doors</h3>
              <ul>
                {o.doors.map((d) => (
                  <li key={d.text}>
                    {d.text}
                    {d.at && (
                      <span className="quiet">
                        {" "}
                        (seen {ago(d.at)} by {d.from})
                      </span>
                    )}
                  </li>
                ))}
              </ul>
            </>
          )}
        </>
      )}
    </Loaded>
  );
}

/** The answer to "what does this key open". */
export function OpensOf({ keyName }: { keyName: string }) {
  const query = useQuery(queries.opens(keyName));
  return (
    <Loaded query={query}>
      {(o) => (
        <>
          {o.access.length > 0 ? (
            <Recorded rows={o.access} of="key" />
          ) : (
            <Nothing>
              {o.found.length + o.trusted.length + (o.passwords?.length ?? 0) > 0
                ? "No access of it is recorded."
                : "It opens nothing, as far as is known."}
            </Nothing>
          )}
          {(o.passwords?.length ?? 0) > 0 && (
            <p>
              It decrypts the first password of{" "}
              {o.passwords?.map((n, at) => (
                <span key={n}>
                  {at > 0 && ", "}
                  <Link to={`/instances/${n}`}>{n}</Link>
                </span>
              ))}
              , without SSH; nobody has recorded that it was changed.
            </p>
          )}
          <Found rows={o.found} of="key" title="Found where nobody recorded it" />
          <Found rows={o.trusted} of="key" title="Trusted as a certificate authority" />
          <Found rows={o.gone} of="key" title="Where it stood once" />
          {o.never_looked > 0 && (
            <p className="quiet">
              It may open more: nobody has looked into the files of {o.never_looked} instances yet.
            </p>
          )}
        </>
      )}
    </Loaded>
  );
}

const everywhere: TableColumnsType<Access> = [
  {
    title: "Instance",
    render: (_, a) => <Link to={"/instances/" + a.instance}>{a.instance}</Link>,
  },
  { title: "Region", dataIndex: "region" },
  {
    title: "Key",
    render: (_, a) => (a.steward ? <span className="quiet">steward</span> : <KeyName of={a} />),
  },
  { title: "Holder", dataIndex: "holder" },
  { title: "Login user", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
  { title: "Evidence", render: (_, a) => <Evidence access={a} /> },
  { title: "Known", render: (_, a) => <Known access={a} /> },
  { title: "Last used", render: (_, a) => <LastUsed of={a} /> },
];

const filters = [
  "key",
  "holder",
  "region",
  "evidence",
  "evidence_older_than_days",
  "evidence_newer_than_days",
];

const older = [1, 7, 30, 90].map((n) => ({ value: String(n), label: `older than ${n} days` }));

/** Every access, filtered on the server: where the pictures' numbers lead. */
export function AccessPage() {
  const [holder, setHolder] = useParam("holder");
  const [region, setRegion] = useParam("region");
  const [kind, setKind] = useParam("evidence");
  const [age, setAge] = useParam("evidence_older_than_days");
  const [newer, setNewer] = useParam("evidence_newer_than_days");
  return (
    <>
      <Title>What opens what</Title>
      <Space className="filters" wrap>
        <HolderChoice value={holder} set={setHolder} />
        <RegionChoice value={region} set={setRegion} />
        <Select
          allowClear
          placeholder="evidence"
          aria-label="evidence"
          value={kind || undefined}
          onChange={(v?: string) => setKind(v)}
          options={["proven", "accepted", "seen", "placed", "none", "old"].map((v) => ({
            value: v,
            label: v,
          }))}
        />
        <Select
          allowClear
          placeholder="age of evidence"
          aria-label="age of evidence"
          value={age || undefined}
          onChange={(v?: string) => setAge(v)}
          options={older}
        />
        <Select
          allowClear
          placeholder="not older than"
          aria-label="not older than"
          value={newer || undefined}
          onChange={(v?: string) => setNewer(v)}
          options={[1, 7, 30, 90].map((n) => ({ value: String(n), label: `within ${n} days` }))}
        />
      </Space>
      <ServerTable
        key={[holder, region, kind, age, newer].join("|")}
        list={queries.accessList}
        columns={everywhere}
        rowKey="id"
        filters={filters}
        empty={<Nothing>No key opens any instance, as far as the ledger knows.</Nothing>}
      />
    </>
  );
}
