import { InboxOutlined } from "@ant-design/icons";
import {
  Alert,
  App,
  Button,
  Descriptions,
  Form,
  Input,
  Modal,
  Select,
  Space,
  type TableColumnsType,
  Tag,
  Tooltip,
  Upload,
} from "antd";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { OpensOf } from "./access";
import { api, type Key, Problem } from "./api";
import { core, kinds } from "./core";
import { ServerTable } from "./list";
import { useParam } from "./param";
import { BadDays } from "./badday";
import { Bitting } from "./marks";
import { Loaded, Mono, Nothing, Title } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { ago } from "./text";
import { Timeline } from "./timeline";
import { Matters } from "./today";

const columns: TableColumnsType<Key> = [
  {
    title: "Key",
    key: "name",
    sorter: true,
    render: (_, k) => <Link to={"/keys/" + k.name}>{k.name}</Link>,
  },
  { title: "Bitting", render: (_, k) => <Bitting cuts={k.cuts} /> },
  { title: "Kind", dataIndex: "kind" },
  {
    title: "Opens",
    key: "reach",
    sorter: true,
    align: "right",
    render: (_, k) => <Link to={"/instances?key=" + k.name}>{k.reach}</Link>,
  },
  { title: "Holder", dataIndex: "holder" },
  {
    title: "Last evidence",
    render: (_, k) => (k.evidence_at ? ago(k.evidence_at) : <span className="quiet">none</span>),
  },
  { title: "Recorded", key: "created", sorter: true, render: (_, k) => ago(k.created_at) },
  { title: "Origin", dataIndex: "origin" },
  {
    title: "State",
    render: (_, k) => (
      <>
        {k.retired && <Tag>retired</Tag>}
        {k.state !== "in use" && <Tag color="warning">{k.state}</Tag>}
        {k.weaknesses?.map((w) => (
          <Tooltip key={w.name} title={w.sentence}>
            <Tag color="warning">{w.severity}</Tag>
          </Tooltip>
        ))}
      </>
    ),
  },
  { title: "Note", dataIndex: "note", className: "quiet" },
];

/** One choice that the list is filtered by. */
function Choice(p: {
  what: string;
  value: string;
  set: (v: string | undefined) => void;
  options: string[][];
}) {
  return (
    <Select
      allowClear
      placeholder={p.what}
      aria-label={p.what}
      value={p.value || undefined}
      onChange={(v?: string) => p.set(v)}
      options={p.options.map(([value, label]) => ({ value, label }))}
    />
  );
}

export function KeysPage() {
  const [importing, setImporting] = useState(false);
  const navigate = useNavigate();
  const [text, setText] = useParam("q");
  const [kind, setKind] = useParam("kind");
  const [holder, setHolder] = useParam("holder");
  const [origin, setOrigin] = useParam("origin");
  const [weakness, setWeakness] = useParam("weakness");
  const [state, setState] = useParam("state");
  const [age, setAge] = useParam("older_than_days");
  const holders = useQuery(queries.holders());
  const mayChange = useMayChange();
  const button = (
    <Button type="primary" disabled={!mayChange} onClick={() => setImporting(true)}>
      Import a key
    </Button>
  );
  return (
    <>
      <Title
        actions={
          <>
            {button}
            <Button disabled={!mayChange} onClick={() => void navigate("/create")}>
              Create a pair
            </Button>
            <Button onClick={() => void navigate("/cloud-keys")}>The cloud's lists</Button>
          </>
        }
      >
        Keys
      </Title>
      <Space className="filters">
        <Input.Search
          allowClear
          placeholder="name or comment"
          aria-label="name or comment"
          defaultValue={text}
          onSearch={(v) => setText(v)}
        />
        <Choice
          what="kind"
          value={kind}
          set={setKind}
          options={[...kinds, "sk-ed25519", "sk-ecdsa-256", "dsa"].map((v) => [v, v])}
        />
        <Choice
          what="holder"
          value={holder}
          set={setHolder}
          options={holders.data?.items.map((h) => [h.name, h.name]) ?? []}
        />
        <Choice
          what="origin"
          value={origin}
          set={setOrigin}
          options={["made here", "imported", "made elsewhere"].map((v) => [v, v])}
        />
        <Choice
          what="weakness"
          value={weakness}
          set={setWeakness}
          options={["any", "dated", "weak", "broken"].map((v) => [v, v])}
        />
        <Choice
          what="state"
          value={state}
          set={setState}
          options={["in use", "retired", "lost", "exposed"].map((v) => [v, v])}
        />
        <Choice
          what="age"
          value={age}
          set={setAge}
          options={[
            ["30", "older than 30 days"],
            ["90", "older than 90 days"],
            ["365", "older than a year"],
          ]}
        />
      </Space>
      <ServerTable
        key={[text, kind, holder, origin, weakness, state, age].join("|")}
        list={queries.keys}
        columns={columns}
        rowKey="name"
        filters={["q", "kind", "holder", "origin", "weakness", "state", "older_than_days"]}
        empty={
          <Nothing action={button}>
            No key is recorded. Make one on your machine with <code>plumlatch key create NAME</code>
            , or bring the public half of one that exists.
          </Nothing>
        }
      />
      <ImportDialog open={importing} close={() => setImporting(false)} />
    </>
  );
}

interface ImportFields {
  name: string;
  public_key: string;
  note?: string;
}

const privateRefusal =
  "This is a private key. It stays with its holder: give the public half, the one line of the .pub file. Nothing was sent.";

function ImportDialog({ open, close }: { open: boolean; close: () => void }) {
  const [form] = Form.useForm<ImportFields>();
  const { message } = App.useApp();
  const client = useQueryClient();
  const add = useMutation({
    // Looked at right before it is sent, by the core: as the service itself would.
    mutationFn: async (f: ImportFields) => {
      if (await core.holdsPrivate(f.public_key)) {
        throw new Problem(0, "", privateRefusal, "public_key");
      }
      return api.addKey({ ...f, note: f.note ?? "" });
    },
    onSuccess: async (k) => {
      void message.success(`Recorded ${k.name}`);
      form.resetFields();
      close();
      await changed.key(client);
    },
    onError: (e) => {
      const field = e instanceof Problem ? e.field : undefined;
      if (field === "name" || field === "public_key" || field === "note") {
        form.setFields([{ name: field, errors: [e.message] }]);
      }
    },
  });
  const read = async (file: File) => {
    const content = file.size > 64 * 1024 ? null : await file.text();
    if (content === null) {
      form.setFields([
        { name: "public_key", errors: ["Over 64 KiB: this is no public key. Nothing was sent."] },
      ]);
    } else if (await core.holdsPrivate(content)) {
      form.setFields([{ name: "public_key", value: "", errors: [privateRefusal] }]);
    } else {
      form.setFieldsValue({ public_key: content.trim() });
      if (!form.getFieldValue("name")) {
        form.setFieldsValue({ name: file.name.replace(/\.pub$/, "") });
      }
    }
  };
  const shown = add.error && !(add.error instanceof Problem && add.error.field) ? add.error : null;
  return (
    <Modal
      open={open}
      onCancel={close}
      title="Import a public key"
      okText="Import"
      confirmLoading={add.isPending}
      onOk={() => form.submit()}
    >
      <Form form={form} layout="vertical" onFinish={(f) => add.mutate(f)} requiredMark={false}>
        <Form.Item name="name" label="Name" rules={[{ required: true, message: "Give it a name" }]}>
          <Input autoComplete="off" placeholder="harbour-ops" />
        </Form.Item>
        <Form.Item
          name="public_key"
          label="Public key"
          rules={[{ required: true, message: "Paste the public half, or drop its file below" }]}
        >
          <Input.TextArea
            rows={4}
            className="mono"
            spellCheck={false}
            placeholder="ssh-ed25519 AAAA... comment"
          />
        </Form.Item>
        <Form.Item>
          <Upload.Dragger
            showUploadList={false}
            beforeUpload={(file) => {
              void read(file);
              return Upload.LIST_IGNORE; // read here, uploaded nowhere
            }}
          >
            <InboxOutlined /> Drop a .pub file here, or click to choose one
          </Upload.Dragger>
        </Form.Item>
        <Form.Item name="note" label="Note">
          <Input autoComplete="off" />
        </Form.Item>
        {shown && <Alert type="error" showIcon title={shown.message} />}
      </Form>
    </Modal>
  );
}

export function KeyPage() {
  const { name = "" } = useParams();
  const navigate = useNavigate();
  const query = useQuery(queries.key(name));
  return (
    <Loaded query={query}>
      {(k) => (
        <>
          <Title
            actions={
              <>
                {k.state === "exposed" ? (
                  <Button type="primary" onClick={() => void navigate(`/keys/${k.name}/exposed`)}>
                    Contain and replace
                  </Button>
                ) : (
                  <Button onClick={() => void navigate(`/rotate?key=${k.name}`)}>
                    Rotate everywhere
                  </Button>
                )}
                <BadDays of={k} />
              </>
            }
          >
            {k.name} <Bitting cuts={k.cuts} />
          </Title>
          {k.state !== "in use" && (
            <Alert
              className="gap"
              type="warning"
              showIcon
              title={`${k.name} is ${k.state}: ${k.state === "lost" ? "nobody has its private half" : "somebody else may have its private half"}`}
              description={`${k.state_reason ? k.state_reason + "; " : ""}recorded ${k.state_at ? ago(k.state_at) : ""} by ${k.state_by ?? ""}`}
            />
          )}
          <Matters of={{ key: k.name }} />
          <Descriptions
            bordered
            size="small"
            column={1}
            items={[
              { label: "Kind", children: k.kind },
              { label: "Fingerprint", children: <Mono>{k.fingerprint}</Mono> },
              { label: "Fingerprint, MD5", children: <Mono>{k.fingerprint_md5}</Mono> },
              { label: "Comment", children: k.comment || <span className="quiet">none</span> },
              {
                label: "Origin",
                children: `${k.origin}, recorded ${ago(k.created_at)} by ${k.created_by}`,
              },
              ...(k.holder
                ? [{ label: "Holder", children: `${k.holder}, a ${k.holder_sort}` }]
                : []),
              ...(k.kept_at ? [{ label: "Kept at", children: k.kept_at }] : []),
              {
                label: "Private half",
                children: k.shown_at
                  ? `shown to exist ${ago(k.shown_at)} by ${k.shown_by}`
                  : "never shown to exist",
              },
              {
                label: "Passphrase",
                children: k.passphrase + (k.passphrase_at ? `, as of ${ago(k.passphrase_at)}` : ""),
              },
              ...(k.retired ? [{ label: "State", children: "retired: for no new launches" }] : []),
              ...(k.weaknesses ?? []).map((w) => ({
                label: "Weakness",
                children: `${w.name} (${w.severity}): ${w.sentence}`,
              })),
              ...(k.note ? [{ label: "Note", children: k.note }] : []),
              { label: "Public half", children: <Mono>{k.public_key}</Mono> },
            ]}
          />
          <h2>What it opens</h2>
          <OpensOf keyName={k.name} />
          <h2>What happened to it</h2>
          <Timeline what="keys" name={k.name} />
        </>
      )}
    </Loaded>
  );
}
