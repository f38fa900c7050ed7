// The cloud's own lists of keys, set against the ledger.
import { Alert, App, Button, Popconfirm, Select, Space, Table, Tag } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type KeyEntry, type KeyList, type KeyLists, type Work } from "./api";
import { settled } from "./doors";
import { Loaded, Nothing, Scrolled, Title } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { ago } from "./text";

const where = (region: string) => region || "the cloud's list";

/** What an entry is, by the ledger. */
function Is({ entry: e }: { entry: KeyEntry }) {
  if (!e.key) {
    return <span className="quiet">no key of the ledger</span>;
  }
  const state = e.key_state !== "in use" ? e.key_state : e.retired ? "retired" : "";
  return (
    <Space size="small" wrap>
      <Link to={`/keys/${e.key}`}>{e.key}</Link>
      {state && <Tag color={state === "retired" ? "default" : "red"}>{state}</Tag>}
      {e.lies && <Tag color="orange">its fingerprint lies</Tag>}
    </Space>
  );
}

function room(l: KeyList): string {
  if (l.trouble) {
    return `not read: ${l.trouble}`;
  }
  const used = l.limit ? `${l.used} of ${l.limit}` : String(l.used);
  if (!l.limit || 10 * l.used < 9 * l.limit) {
    return used;
  }
  return `${used}, ${l.used >= l.limit ? "full" : "nearly full"}`;
}

export function CloudKeysPage() {
  const query = useQuery(queries.keyLists());
  return (
    <>
      <Title>The cloud's own lists of keys</Title>
      <Loaded query={query}>
        {(data) =>
          data.rules ? (
            <Lists data={data} />
          ) : (
            <Nothing>This cloud keeps no keys under names.</Nothing>
          )
        }
      </Loaded>
    </>
  );
}

function Lists({ data }: { data: KeyLists }) {
  const { message } = App.useApp();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const keys = useQuery(queries.keys({ limit: 500, state: "in use" }));
  const [key, setKey] = useState<string>();
  const [regions, setRegions] = useState<string[]>([]);
  const change = useMutation({
    mutationFn: (f: () => Promise<Work>) => f().then(settled),
    onSuccess: (w) => void message.success(w.outcome ?? "done"),
    onError: (e) => void message.error(e.message, 8),
    onSettled: () => changed.keyLists(client),
  });
  return (
    <>
      <p>
        Whatever is launched with an entry trusts it. What a label says stays the cloud's word,
        until a survey has seen the key.
      </p>
      <Table<KeyList>
        size="small"
        rowKey="region"
        dataSource={data.lists}
        pagination={false}
        columns={[
          { title: "List", render: (_: unknown, l) => where(l.region) },
          { title: "Used", render: (_: unknown, l) => room(l) },
          { title: "Keys of the ledger", dataIndex: "known" },
        ]}
      />
      <Space wrap className="filters" style={{ marginTop: 16 }}>
        <Select
          showSearch
          aria-label="Key to list"
          placeholder="a key of the ledger"
          style={{ minWidth: 220 }}
          value={key}
          onChange={setKey}
          options={(keys.data?.items ?? []).map((k) => ({ value: k.name, label: k.name }))}
        />
        <Select
          mode="multiple"
          aria-label="Regions"
          placeholder="everywhere"
          style={{ minWidth: 220 }}
          value={regions}
          onChange={setRegions}
          options={data.lists
            .filter((l) => l.region)
            .map((l) => ({ value: l.region, label: l.region }))}
        />
        <Button
          type="primary"
          disabled={!mayChange || !key}
          loading={change.isPending}
          onClick={() => key && change.mutate(() => api.listKey(key, regions))}
        >
          List it
        </Button>
      </Space>
      <Scrolled label="Entries of the cloud's lists">
        <Table<KeyEntry>
          size="small"
          rowKey={(e) => `${e.region} ${e.id}`}
          dataSource={data.entries}
          pagination={{ pageSize: 20, hideOnSinglePage: true }}
          locale={{ emptyText: "The lists are empty." }}
          columns={[
            { title: "Listed as", dataIndex: "name" },
            { title: "Region", dataIndex: "region" },
            { title: "Is", render: (_: unknown, e) => <Is entry={e} /> },
            {
              title: "The cloud's fingerprint",
              render: (_: unknown, e) => <code className="print">{e.fingerprint}</code>,
            },
            {
              title: "Launched with it",
              render: (_: unknown, e) =>
                e.labelled ? (
                  <span>
                    {e.labelled}
                    {e.some && ": "}
                    {e.some?.map((name, n) => (
                      <span key={name}>
                        {n > 0 && ", "}
                        <Link to={`/instances/${name}`}>{name}</Link>
                      </span>
                    ))}
                  </span>
                ) : (
                  ""
                ),
            },
            { title: "Since", render: (_: unknown, e) => (e.added_at ? ago(e.added_at) : "") },
            {
              title: "",
              render: (_: unknown, e) => (
                <Popconfirm
                  title={`Take ${e.name} out of ${where(e.region)}?`}
                  description="What stands on instances stays. Whatever names it when it launches fails from then on."
                  okText="Take it out"
                  onConfirm={() =>
                    change.mutate(() => api.unlistKey(e.id, e.region ? [e.region] : []))
                  }
                >
                  <Button
                    size="small"
                    disabled={!mayChange || change.isPending}
                    aria-label={`Take out ${e.name}`}
                  >
                    Take out
                  </Button>
                </Popconfirm>
              ),
            },
          ]}
        />
      </Scrolled>
      {data.left_out ? (
        <Alert
          type="info"
          title={`${data.left_out} entries are left out, none of them a key of the ledger: plumlatch cloud-key list -all shows them.`}
        />
      ) : null}
    </>
  );
}
