// What opens an instance, or what a key opens.
import { Table, type TableColumnsType } from "antd";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { type Access, api } from "./api";
import { Bitting, Evidence, Known } from "./marks";
import { Loaded, Nothing } from "./parts";

/** Every access of an instance or of a key, following the cursors to the end. */
async function all(q: { instance?: string; key?: string }): Promise<Access[]> {
  const rows: Access[] = [];
  let cursor: string | undefined;
  do {
    const page = await api.access({ ...q, cursor });
    rows.push(...page.items);
    cursor = page.next_cursor;
  } while (cursor);
  return rows;
}

export function AccessTable(q: {
  instance?: string;
  keyName?: string;
  live?: boolean;
  stage?: string;
}) {
  const query = useQuery({
    // The stage is part of the key, so that the end of a change reads once more.
    queryKey: ["access", q.instance, q.keyName, q.stage],
    placeholderData: (before) => before,
    queryFn: () => all({ instance: q.instance, key: q.keyName }),
    refetchInterval: q.live ? 700 : false,
  });
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
