// What opens an instance, or what a key opens.
import { HolderChoice, RegionChoice } from "./choices";
import { Select, Space, Table, type TableColumnsType, Tooltip } from "antd";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import type { Access } from "./api";
import { ServerTable } from "./list";
import { useParam } from "./param";
import { Bitting, Evidence, Known } from "./marks";
import { Loaded, Nothing, Title } from "./parts";
import { queries } from "./queries";
import { until } from "./text";

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

export function AccessTable(q: { instance?: string; keyName?: string }) {
  const query = useQuery(queries.accessOf({ instance: q.instance, key: q.keyName }));
  const longest = Math.max(0, ...(query.data ?? []).map((a) => left(a)));
  const columns: TableColumnsType<Access> = [
    q.instance
      ? {
          title: "Key",
          render: (_, a) =>
            a.steward ? (
              <span className="quiet">steward: the service&apos;s own, SFTP only</span>
            ) : (
              <Link to={"/keys/" + a.key}>{a.key}</Link>
            ),
        }
      : {
          title: "Instance",
          render: (_, a) => <Link to={"/instances/" + a.instance}>{a.instance}</Link>,
        },
    q.instance
      ? { title: "Bitting", render: (_, a) => <Bitting cuts={a.cuts} /> }
      : { title: "Region", dataIndex: "region" },
    { title: "Kind", dataIndex: "kind" },
    { title: "Login user", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
    { title: "Evidence", render: (_, a) => <Evidence access={a} /> },
    { title: "Known", render: (_, a) => <Known access={a} /> },
    { title: "Time left", render: (_, a) => <TimeLeft of={a} longest={longest} /> },
  ];
  return (
    <Loaded query={query}>
      {(rows) =>
        rows.length === 0 ? (
          <Nothing>
            {q.instance
              ? "No key opens it, as far as the ledger knows."
              : "It opens nothing, as far as the ledger knows."}
          </Nothing>
        ) : (
          <Table<Access>
            size="small"
            rowKey="id"
            columns={columns}
            dataSource={rows}
            pagination={false}
            scroll={{ x: "max-content" }}
          />
        )
      }
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
    render: (_, a) =>
      a.steward ? (
        <span className="quiet">steward</span>
      ) : (
        <Link to={"/keys/" + a.key}>{a.key}</Link>
      ),
  },
  { title: "Holder", dataIndex: "holder" },
  { title: "Login user", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
  { title: "Evidence", render: (_, a) => <Evidence access={a} /> },
  { title: "Known", render: (_, a) => <Known access={a} /> },
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
          value={age || undefined}
          onChange={(v?: string) => setAge(v)}
          options={older}
        />
        <Select
          allowClear
          placeholder="not older than"
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
