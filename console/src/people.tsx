// Who uses the service: oneself, with tokens and a password; for an admin everybody, and the policy.
import { Alert, App, Button, Card, Form, Input, Modal, Select, Space, Table, Tag } from "antd";
import { useState } from "react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Operator, type OperatorKey, type Token } from "./api";
import { Loaded, Mono, Title } from "./parts";
import { changed, queries } from "./queries";
import { useSession } from "./session";
import { When } from "./when";

const roles = ["viewer", "operator", "admin"];

export function PeoplePage() {
  const { operator } = useSession();
  const admin = operator.role === "admin";
  return (
    <>
      <Title>{admin ? "People and policy" : "You"}</Title>
      <div className="columns">
        <Password />
        <Keys of={operator.name} />
      </div>
      <Tokens everybody={admin} />
      {admin && <Operators />}
      {admin && <PolicyEditor />}
    </>
  );
}

/** Changes one's own password. */
function Password() {
  const { message } = App.useApp();
  const [form] = Form.useForm<{ password: string; fresh: string }>();
  const set = useMutation({
    mutationFn: (f: { password: string; fresh: string }) => api.setPassword(f.password, f.fresh),
    onSuccess: () => {
      form.resetFields();
      void message.success("Your password is changed; your other sessions have ended");
    },
  });
  return (
    <Card size="small" title="Your password">
      <Form
        form={form}
        layout="vertical"
        requiredMark={false}
        onFinish={(f: { password: string; fresh: string }) => set.mutate(f)}
      >
        <Form.Item
          name="password"
          label="The present one"
          rules={[{ required: true, message: "The present one" }]}
        >
          <Input.Password autoComplete="current-password" />
        </Form.Item>
        <Form.Item
          name="fresh"
          label="The new one"
          rules={[{ required: true, min: 12, message: "At least 12 characters" }]}
        >
          <Input.Password autoComplete="new-password" />
        </Form.Item>
        {set.error && <Alert type="error" showIcon title={set.error.message} className="gap" />}
        <Button htmlType="submit" loading={set.isPending}>
          Change it
        </Button>
      </Form>
    </Card>
  );
}

/** Which keys sign for an operator. */
function Keys({ of }: { of: string }) {
  const query = useQuery(queries.operatorKeys(of));
  return (
    <Card size="small" title={`Keys that sign for ${of}`}>
      <Loaded query={query}>
        {(data) => (
          <>
            <Table<OperatorKey>
              size="small"
              rowKey="key"
              dataSource={data.items}
              pagination={false}
              locale={{ emptyText: "None. An admin says which: plumlatch operator key." }}
              columns={[
                { title: "Key", dataIndex: "key" },
                {
                  title: "Signs",
                  render: (_, k) =>
                    [k.signs_in && "in", k.gives_word && "words"].filter(Boolean).join(", "),
                },
                { title: "Opens", dataIndex: "opens", align: "right" },
                { title: "State", render: (_, k) => k.state },
              ]}
            />
            {data.items.some((k) => k.signs_in && k.opens > 0) && (
              <Alert
                className="gap"
                type="warning"
                showIcon
                title="A key that signs in opens instances too"
                description="Whoever is root there can ask a forwarded agent to sign in with it. Take a key for this alone."
              />
            )}
            <p className="quiet">
              On your machine: <code>{`plumlatch sign-in ${location.origin} -identity FILE`}</code>
            </p>
          </>
        )}
      </Loaded>
    </Card>
  );
}

const lives: { label: string; value: number }[] = [
  { label: "a day", value: 86_400 },
  { label: "30 days", value: 30 * 86_400 },
  { label: "90 days", value: 90 * 86_400 },
  { label: "a year", value: 365 * 86_400 },
];

/** One's own tokens; everybody's for an admin. */
function Tokens({ everybody }: { everybody: boolean }) {
  const client = useQueryClient();
  const { operator } = useSession();
  const query = useQuery(queries.tokens());
  const [open, setOpen] = useState(false);
  const [made, setMade] = useState<Token>();
  const create = useMutation({
    mutationFn: (f: { name: string; role: string; seconds: number }) =>
      api.createToken(f.name, f.role, f.seconds),
    onSuccess: async (t) => {
      setMade(t);
      setOpen(false);
      await changed.people(client);
    },
  });
  const revoke = useMutation({
    mutationFn: (id: number) => api.revokeToken(id),
    onSuccess: () => changed.people(client),
  });
  return (
    <>
      <div className="title">
        <h2>{everybody ? "Tokens of everybody" : "Your tokens"}</h2>
        <Button onClick={() => setOpen(true)}>Make a token</Button>
      </div>
      {made?.token && (
        <Alert
          className="gap"
          type="success"
          showIcon
          closable={{ onClose: () => setMade(undefined) }}
          title={`The token ${made.name}, shown this once`}
          description={<Mono>{made.token}</Mono>}
        />
      )}
      {revoke.error && <Alert type="error" showIcon title={revoke.error.message} />}
      <Loaded query={query}>
        {(data) => (
          <Table<Token>
            size="small"
            rowKey="id"
            dataSource={data.items}
            pagination={false}
            scroll={{ x: "max-content" }}
            locale={{ emptyText: "There is no token." }}
            columns={[
              { title: "Token", dataIndex: "name" },
              ...(everybody ? [{ title: "Operator", dataIndex: "operator" }] : []),
              { title: "Role", dataIndex: "role" },
              { title: "Ends", render: (_: unknown, t: Token) => <When at={t.expires_at} /> },
              {
                title: "Last used",
                render: (_: unknown, t: Token) =>
                  t.last_used_at ? (
                    <>
                      <When at={t.last_used_at} /> from {t.last_used_from}
                    </>
                  ) : (
                    "never"
                  ),
              },
              {
                title: "State",
                render: (_: unknown, t: Token) =>
                  t.revoked_at ? (
                    <Tag>revoked</Tag>
                  ) : new Date(t.expires_at) < new Date() ? (
                    <Tag>expired</Tag>
                  ) : (
                    <Button
                      size="small"
                      aria-label={`Revoke the token ${t.name}`}
                      loading={revoke.isPending && revoke.variables === t.id}
                      onClick={() => revoke.mutate(t.id)}
                    >
                      Revoke
                    </Button>
                  ),
              },
            ]}
          />
        )}
      </Loaded>
      {open && (
        <Modal open title="Make a token" footer={null} onCancel={() => setOpen(false)}>
          <Form
            layout="vertical"
            requiredMark={false}
            initialValues={{ role: operator.role, seconds: 30 * 86_400 }}
            onFinish={(f: { name: string; role: string; seconds: number }) => create.mutate(f)}
          >
            <Form.Item name="name" label="Name" rules={[{ required: true, message: "A name" }]}>
              <Input placeholder="what it is for, such as night-report" />
            </Form.Item>
            <Form.Item name="role" label="Role">
              <Select
                options={roles
                  .slice(0, roles.indexOf(operator.role) + 1)
                  .map((r) => ({ value: r, label: r }))}
              />
            </Form.Item>
            <Form.Item name="seconds" label="Lasts">
              <Select options={lives} />
            </Form.Item>
            {create.error && (
              <Alert type="error" showIcon title={create.error.message} className="gap" />
            )}
            <Button type="primary" htmlType="submit" loading={create.isPending}>
              Make it
            </Button>
          </Form>
        </Modal>
      )}
    </>
  );
}

/** Who uses the service, for an admin. */
function Operators() {
  const client = useQueryClient();
  const query = useQuery(queries.operators());
  const [open, setOpen] = useState(false);
  const [made, setMade] = useState<Operator>();
  const add = useMutation({
    mutationFn: (f: { name: string; role: string; public_key?: string }) => api.addOperator(f),
    onSuccess: async (o) => {
      setMade(o);
      setOpen(false);
      await changed.people(client);
    },
  });
  const change = useMutation({
    mutationFn: (f: { name: string; role?: string; disabled?: boolean }) =>
      api.changeOperator(f.name, { role: f.role, disabled: f.disabled }),
    onSuccess: () => changed.people(client),
  });
  return (
    <>
      <div className="title">
        <h2>Operators</h2>
        <Button onClick={() => setOpen(true)}>Add an operator</Button>
      </div>
      {made && (
        <Alert
          className="gap"
          type="success"
          showIcon
          closable={{ onClose: () => setMade(undefined) }}
          title={
            made.password
              ? `The password of ${made.name}, shown this once`
              : `${made.name} signs in by ${made.key?.key ?? "its key"}`
          }
          description={
            made.password ? (
              <Mono>{made.password}</Mono>
            ) : (
              <Mono>{`plumlatch sign-in ${location.origin} -operator ${made.name} -identity FILE`}</Mono>
            )
          }
        />
      )}
      {change.error && <Alert type="error" showIcon title={change.error.message} />}
      <Loaded query={query}>
        {(data) => (
          <Table<Operator>
            size="small"
            rowKey="name"
            dataSource={data.items}
            pagination={false}
            scroll={{ x: "max-content" }}
            columns={[
              { title: "Operator", dataIndex: "name" },
              {
                title: "Role",
                render: (_, o) => (
                  <Select
                    size="small"
                    aria-label={`Role of ${o.name}`}
                    value={o.role}
                    options={roles.map((r) => ({ value: r, label: r }))}
                    onChange={(role: string) => change.mutate({ name: o.name, role })}
                  />
                ),
              },
              { title: "Added", render: (_, o) => <When at={o.created_at} /> },
              {
                title: "State",
                render: (_, o) => (
                  <Space wrap>
                    {o.disabled ? <Tag>disabled</Tag> : null}
                    <Button
                      size="small"
                      aria-label={`${o.disabled ? "Enable" : "Disable"} ${o.name}`}
                      onClick={() => change.mutate({ name: o.name, disabled: !o.disabled })}
                    >
                      {o.disabled ? "Enable" : "Disable"}
                    </Button>
                  </Space>
                ),
              },
            ]}
          />
        )}
      </Loaded>
      {open && (
        <Modal open title="Add an operator" footer={null} onCancel={() => setOpen(false)}>
          <Form
            layout="vertical"
            requiredMark={false}
            initialValues={{ role: "viewer" }}
            onFinish={(f: { name: string; role: string; public_key?: string }) => add.mutate(f)}
          >
            <Form.Item name="name" label="Name" rules={[{ required: true, message: "A name" }]}>
              <Input />
            </Form.Item>
            <Form.Item name="role" label="Role">
              <Select options={roles.map((r) => ({ value: r, label: r }))} />
            </Form.Item>
            <Form.Item
              name="public_key"
              label="Public key by which it signs in"
              extra="The one line of the .pub file. Without one it gets a password."
            >
              <Input.TextArea rows={3} className="mono" />
            </Form.Item>
            {add.error && <Alert type="error" showIcon title={add.error.message} className="gap" />}
            <Button type="primary" htmlType="submit" loading={add.isPending}>
              Add
            </Button>
          </Form>
        </Modal>
      )}
    </>
  );
}

/** The policy, with its check. */
function PolicyEditor() {
  const client = useQueryClient();
  const query = useQuery(queries.policy());
  const [text, setText] = useState<string>();
  const check = useMutation({ mutationFn: (t: string) => api.setPolicy(t, true) });
  const set = useMutation({
    mutationFn: (t: string) => api.setPolicy(t, false),
    onSuccess: async () => {
      setText(undefined);
      await changed.people(client);
    },
  });
  const error = set.error ?? check.error;
  return (
    <>
      <h2 id="policy">Policy</h2>
      <Loaded query={query}>
        {(p) => (
          <>
            <Input.TextArea
              className="mono"
              aria-labelledby="policy"
              rows={24}
              value={text ?? p.text}
              onChange={(e) => {
                check.reset();
                set.reset();
                setText(e.target.value);
              }}
            />
            <Space className="pages">
              <Button
                disabled={text === undefined}
                loading={check.isPending}
                onClick={() => check.mutate(text ?? "")}
              >
                Check
              </Button>
              <Button
                type="primary"
                disabled={text === undefined}
                loading={set.isPending}
                onClick={() => set.mutate(text ?? "")}
              >
                Set
              </Button>
              {text !== undefined && <Button onClick={() => setText(undefined)}>Undo</Button>}
            </Space>
            {error && <Alert className="gap" type="error" showIcon title={error.message} />}
            {check.isSuccess && !error && (
              <Alert
                className="gap"
                type="success"
                showIcon
                title="It can be read, and is not set yet."
              />
            )}
            {set.isSuccess && !error && (
              <Alert
                className="gap"
                type="success"
                showIcon
                title="It is set; everything is judged by it anew."
              />
            )}
          </>
        )}
      </Loaded>
    </>
  );
}
