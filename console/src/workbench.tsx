// Work with private keys in the page: nothing of it leaves this page, but the
// public half of a new pair when it is recorded.
import { DownloadOutlined, InboxOutlined } from "@ant-design/icons";
import {
  Alert,
  Button,
  Card,
  Checkbox,
  Descriptions,
  Form,
  Input,
  Select,
  Space,
  Upload,
} from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Key, Problem } from "./api";
import {
  core,
  type Inspected,
  kinds,
  privateFormats,
  publicFormats,
  save,
  type Written,
} from "./core";
import { Bitting } from "./marks";
import { Failed, Mono, Title } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";

interface CreateFields {
  name: string;
  kind: string;
  format: string;
  passphrase?: string;
  again?: string;
}

const extension = (format: string) =>
  [...privateFormats, ...publicFormats].find((f) => f.value === format)?.extension ?? "";

const namePattern = /^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$/;

export function CreatePage() {
  const [done, setDone] = useState<{ k: Key; file: string }>();
  return done ? (
    <Recorded k={done.k} file={done.file} />
  ) : (
    <>
      <Title>Create a key pair</Title>
      <PairMaker recorded={(k, file) => setDone({ k, file })} />
    </>
  );
}

/** Makes a pair in the page, and records its public half once the private file is saved. */
export function PairMaker({ recorded }: { recorded: (k: Key, file: string) => void }) {
  const [form] = Form.useForm<CreateFields>();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const [made, setMade] = useState<{ fields: CreateFields; written: Written }>();
  const [downloaded, setDownloaded] = useState(false);
  const [saved, setSaved] = useState(false);
  const kind = Form.useWatch("kind", form);
  const create = useMutation({
    mutationFn: async (f: CreateFields) => ({
      fields: f,
      written: await core.create({
        kind: f.kind,
        comment: f.name,
        format: f.format,
        passphrase: f.passphrase ?? "",
      }),
    }),
    onSuccess: (r) => {
      setMade(r);
      setDownloaded(false);
      setSaved(false);
    },
  });
  const record = useMutation({
    mutationFn: (r: { fields: CreateFields; written: Written }) =>
      api.recordMade({
        name: r.fields.name,
        public_key: r.written.publicLine ?? "",
        passphrase: r.fields.passphrase ? "yes" : "no",
      }),
    onSuccess: async (k, r) => {
      recorded(k, r.fields.name + extension(r.fields.format));
      await changed.key(client);
    },
  });
  return (
    <>
      <p className="quiet">
        The pair is made by this page, on this machine. Only its public half is sent, after you have
        saved the private file.
      </p>
      <div className="launch">
        <Form
          form={form}
          name="pair"
          layout="vertical"
          requiredMark={false}
          disabled={!!made || !mayChange}
          initialValues={{ kind: "ed25519", format: "openssh" }}
          onFinish={(f) => create.mutate(f)}
        >
          <Form.Item
            name="name"
            label="Name"
            rules={[
              {
                pattern: namePattern,
                required: true,
                message:
                  "1 to 63 letters, digits, '.', '_' or '-', starting with a letter or digit",
              },
            ]}
          >
            <Input autoComplete="off" placeholder="night-crew" />
          </Form.Item>
          <Form.Item name="kind" label="Kind">
            <Select options={kinds.map((k) => ({ value: k, label: k }))} />
          </Form.Item>
          <Form.Item name="format" label="File format, as your SSH client opens it">
            <Select
              options={privateFormats.map((f) => ({
                ...f,
                disabled: f.value === "pem" && kind === "ed25519",
              }))}
            />
          </Form.Item>
          <Form.Item name="passphrase" label="Passphrase (empty for none)">
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          <Form.Item
            name="again"
            label="The same again"
            dependencies={["passphrase"]}
            rules={[
              ({ getFieldValue }) => ({
                validator: (_, v?: string) =>
                  (v ?? "") === ((getFieldValue("passphrase") as string | undefined) ?? "")
                    ? Promise.resolve()
                    : Promise.reject(new Error("The two passphrases differ")),
              }),
            ]}
          >
            <Input.Password autoComplete="new-password" />
          </Form.Item>
          {create.error && <Failed error={create.error} />}
          {!made && (
            <Button type="primary" onClick={() => form.submit()} loading={create.isPending}>
              Make the pair
            </Button>
          )}
        </Form>
        {made && (
          <Card size="small" title={<Bitting cuts={made.written.cuts ?? []} />}>
            <p>
              <Mono>{made.written.fingerprint ?? ""}</Mono>
            </p>
            {made.written.warning && (
              <Alert type="warning" showIcon title={made.written.warning} className="gap" />
            )}
            <ol className="steps">
              <li>
                <Button
                  type={downloaded ? "default" : "primary"}
                  icon={<DownloadOutlined />}
                  onClick={() => {
                    save(made.fields.name + extension(made.fields.format), made.written.file);
                    setDownloaded(true);
                  }}
                >
                  Save the private file
                </Button>
              </li>
              <li>
                <Checkbox
                  disabled={!downloaded}
                  checked={saved}
                  onChange={(e) => setSaved(e.target.checked)}
                >
                  The file is saved. Nobody can make it again.
                </Checkbox>
              </li>
              <li>
                <Space wrap>
                  <Button
                    type={saved ? "primary" : "default"}
                    disabled={!saved}
                    loading={record.isPending}
                    onClick={() => record.mutate(made)}
                  >
                    Record the public half
                  </Button>
                  <Button onClick={() => setMade(undefined)}>Discard</Button>
                </Space>
              </li>
            </ol>
            {record.error && (
              <Alert
                type="error"
                showIcon
                title={record.error.message}
                description={
                  record.error instanceof Problem && record.error.field === "name"
                    ? "Discard it, or record the saved key under another name by importing its public half."
                    : undefined
                }
              />
            )}
          </Card>
        )}
      </div>
    </>
  );
}

function Recorded({ k, file }: { k: Key; file: string }) {
  return (
    <>
      <Title>{k.name} is recorded</Title>
      <p>Move the private file to where your SSH client looks for it, and close it to others:</p>
      <p>
        <Mono>{`mv ~/Downloads/${file} ~/.ssh/ && chmod 600 ~/.ssh/${file}`}</Mono>
      </p>
      <p>
        <Link to={"/keys/" + k.name}>See the key</Link>, or <Link to="/launch">launch with it</Link>
        .
      </p>
    </>
  );
}

interface Dropped {
  name: string;
  data: Uint8Array<ArrayBuffer>;
}

export function CheckPage() {
  const [files, setFiles] = useState<Dropped[]>([]);
  return (
    <>
      <Title>What is this key file?</Title>
      <Alert
        type="info"
        showIcon
        className="gap"
        title="Nothing leaves this page: the files are read here. The ledger is asked by fingerprint alone, and only when you ask it."
      />
      <Upload.Dragger
        multiple
        showUploadList={false}
        beforeUpload={(file) => {
          void file
            .arrayBuffer()
            .then((b) => setFiles((old) => [...old, { name: file.name, data: new Uint8Array(b) }]));
          return Upload.LIST_IGNORE; // read here, uploaded nowhere
        }}
      >
        <InboxOutlined /> Drop key files here, private or public, or click to choose them
      </Upload.Dragger>
      {files.map((f, i) => (
        <FileCard key={i} file={f} />
      ))}
    </>
  );
}

function FileCard({ file }: { file: Dropped }) {
  const [passphrase, setPassphrase] = useState("");
  const query = useQuery({
    queryKey: ["inspect", file.name, file.data.length, file, passphrase],
    queryFn: () => core.inspect({ file: file.data, passphrase }),
    retry: false,
    staleTime: Infinity,
    gcTime: 0,
    placeholderData: (before) => before,
  });
  const found = query.data;
  return (
    <Card size="small" title={file.name} className="gap file">
      {query.error && <Alert type="warning" showIcon title={query.error.message} />}
      {found && <Found found={found} />}
      {found?.encrypted && (
        <Form
          layout="inline"
          className="gap"
          onFinish={(v: { passphrase?: string }) => setPassphrase(v.passphrase ?? "")}
        >
          <Form.Item
            name="passphrase"
            label="Passphrase"
            validateStatus={found.wrongPassphrase ? "error" : undefined}
            help={found.wrongPassphrase ? "This is not its passphrase" : undefined}
          >
            <Input.Password autoComplete="off" />
          </Form.Item>
          <Button htmlType="submit">Open it</Button>
        </Form>
      )}
      {found?.fingerprint && <Known fingerprint={found.fingerprint} />}
      {found && <Convert file={file} found={found} passphrase={passphrase} />}
    </Card>
  );
}

function Found({ found }: { found: Inspected }) {
  return (
    <>
      <Descriptions
        size="small"
        column={1}
        items={[
          {
            label: "It is",
            children: `${found.private ? "a private key" : "a public key"}${found.kind ? ", " + found.kind : ""}, in the format ${found.format}${
              found.private
                ? found.encrypted
                  ? ", with a passphrase"
                  : ", without a passphrase"
                : ""
            }`,
          },
          ...(found.fingerprint
            ? [
                { label: "Bitting", children: <Bitting cuts={found.cuts ?? []} /> },
                { label: "Fingerprint", children: <Mono>{found.fingerprint}</Mono> },
                { label: "Fingerprint, MD5", children: <Mono>{found.fingerprintMD5 ?? ""}</Mono> },
                { label: "Comment", children: found.comment || "none" },
              ]
            : []),
          ...(found.remarks ? [{ label: "Tolerated", children: found.remarks }] : []),
        ]}
      />
      {[
        found.warning,
        ...(found.weaknesses ?? []).map((w) => `${w.name} (${w.severity}): ${w.sentence}`),
      ]
        .filter(Boolean)
        .map((w) => (
          <Alert key={w} type="warning" showIcon title={w} className="gap" />
        ))}
    </>
  );
}

/** Asks the ledger which key it is. Only the fingerprint is sent. */
function Known({ fingerprint }: { fingerprint: string }) {
  const [asked, setAsked] = useState(false);
  const query = useQuery({ ...queries.keysOf(fingerprint), enabled: asked });
  if (!asked) {
    return <Button onClick={() => setAsked(true)}>Ask the ledger what it opens</Button>;
  }
  if (query.error) {
    return <Failed error={query.error} />;
  }
  const k = query.data?.items[0];
  if (!query.data) {
    return null;
  }
  return k ? (
    <p>
      It is the recorded key <Link to={"/keys/" + k.name}>{k.name}</Link>, which opens{" "}
      <Link to={"/instances?key=" + k.name}>{k.reach}</Link>.
    </p>
  ) : (
    <p>The ledger does not know it.</p>
  );
}

function Convert({
  file,
  found,
  passphrase,
}: {
  file: Dropped;
  found: Inspected;
  passphrase: string;
}) {
  const convert = useMutation({
    mutationFn: (f: { format: string; newPassphrase?: string }) =>
      core.convert({
        file: file.data,
        passphrase,
        format: f.format,
        newPassphrase: f.newPassphrase ?? "",
      }),
    onSuccess: (w, f) =>
      save(file.name.replace(/\.(pub|pem|ppk)$/, "") + extension(f.format), w.file),
  });
  const unlocked =
    found.private && (!found.encrypted || (passphrase !== "" && !found.wrongPassphrase));
  return (
    <Form
      layout="inline"
      className="gap"
      initialValues={{ format: "line", newPassphrase: passphrase }}
      onFinish={(f: { format: string; newPassphrase?: string }) => convert.mutate(f)}
    >
      <Form.Item name="format" label="Convert to">
        <Select
          className="wide"
          options={[...publicFormats, ...(unlocked ? privateFormats : [])]}
        />
      </Form.Item>
      {unlocked && (
        <Form.Item name="newPassphrase" label="with the passphrase">
          <Input.Password autoComplete="new-password" placeholder="none" />
        </Form.Item>
      )}
      <Button htmlType="submit" icon={<DownloadOutlined />} loading={convert.isPending}>
        Save
      </Button>
      {convert.error && <Alert type="error" title={convert.error.message} />}
      {convert.data?.warning && <Alert type="warning" title={convert.data.warning} />}
    </Form>
  );
}
