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
  Upload,
} from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { AccessTable } from "./access";
import { api, type Key, Problem } from "./api";
import { ServerTable, useParam } from "./list";
import { Bitting } from "./marks";
import { Loaded, Mono, Nothing, Title } from "./parts";
import { useMayChange } from "./session";
import { ago, looksPrivate } from "./text";

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
  { title: "Recorded", key: "created", sorter: true, render: (_, k) => ago(k.created_at) },
  { title: "Origin", dataIndex: "origin" },
  { title: "Note", dataIndex: "note", className: "quiet" },
];

export function KeysPage() {
  const [importing, setImporting] = useState(false);
  const [text, setText] = useParam("q");
  const [kind, setKind] = useParam("kind");
  const mayChange = useMayChange();
  const button = (
    <Button type="primary" disabled={!mayChange} onClick={() => setImporting(true)}>
      Import a key
    </Button>
  );
  return (
    <>
      <Title actions={button}>Keys</Title>
      <Space className="filters">
        <Input.Search
          allowClear
          placeholder="name or comment"
          defaultValue={text}
          onSearch={(v) => setText(v)}
        />
        <Select
          allowClear
          placeholder="kind"
          value={kind || undefined}
          onChange={(v?: string) => setKind(v)}
          options={["ed25519", "rsa-3072", "rsa-4096", "ecdsa-256"].map((v) => ({
            value: v,
            label: v,
          }))}
        />
      </Space>
      <ServerTable
        key={text + " " + kind}
        id="keys"
        load={api.keys}
        columns={columns}
        rowKey="name"
        filters={["q", "kind"]}
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
    mutationFn: (f: ImportFields) => api.addKey({ ...f, note: f.note ?? "" }),
    onSuccess: async (k) => {
      void message.success(`Recorded ${k.name}`);
      form.resetFields();
      close();
      await client.invalidateQueries({ queryKey: ["keys"] });
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
    } else if (looksPrivate(content)) {
      form.setFields([{ name: "public_key", value: "", errors: [privateRefusal] }]);
    } else {
      form.setFieldsValue({ public_key: content.trim() });
      if (!form.getFieldValue("name")) {
        form.setFieldsValue({ name: file.name.replace(/\.pub$/, "") });
      }
      void form.validateFields(["public_key"]);
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
          rules={[
            { required: true, message: "Paste the public half, or drop its file below" },
            {
              validator: (_, v?: string) =>
                v && looksPrivate(v)
                  ? Promise.reject(new Error(privateRefusal))
                  : Promise.resolve(),
            },
          ]}
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
  const query = useQuery({ queryKey: ["key", name], queryFn: () => api.key(name) });
  return (
    <Loaded query={query}>
      {(k) => (
        <>
          <Title>
            {k.name} <Bitting cuts={k.cuts} />
          </Title>
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
              ...(k.note ? [{ label: "Note", children: k.note }] : []),
              { label: "Public half", children: <Mono>{k.public_key}</Mono> },
            ]}
          />
          <h2>What it opens</h2>
          <AccessTable keyName={k.name} />
        </>
      )}
    </Loaded>
  );
}
