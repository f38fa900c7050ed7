// What the last surveys of an instance saw, and what they could not see.
import { Alert, App, Button, Input, Modal, Space, Table, Tag } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Instance, type LastSurvey, type Surveyed } from "./api";
import { Loaded, Scrolled } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { ago } from "./text";

/** Names a key that nobody wrote down, and takes it over. */
function TakeOver({
  instance,
  found,
  close,
}: {
  instance: string;
  found: Surveyed | null;
  close: () => void;
}) {
  const [name, setName] = useState("");
  const client = useQueryClient();
  const { message } = App.useApp();
  const record = useMutation({
    mutationFn: (f: Surveyed) =>
      api.recordAccess(instance, f.fingerprint, f.login_user, f.key ? "" : name),
    onSuccess: async (k) => {
      void message.success(`On record: ${k.name} opens ${instance}`);
      setName("");
      close();
      await changed.access(client);
    },
  });
  return (
    <Modal
      open={found !== null}
      title="Write down that it opens the instance"
      okText="Write down"
      onCancel={close}
      confirmLoading={record.isPending}
      okButtonProps={{ disabled: !found?.key && name.trim() === "" }}
      onOk={() => found && record.mutate(found)}
    >
      <p>
        <code>{found?.fingerprint}</code> {found?.comment}
      </p>
      {found?.key ? (
        <p>It is recorded as {found.key}.</p>
      ) : (
        <Input
          placeholder="name for the key"
          aria-label="name for the key"
          value={name}
          onChange={(e) => setName(e.target.value)}
        />
      )}
      {record.error && <Alert type="error" showIcon title={record.error.message} />}
    </Modal>
  );
}

function Lines({ what, all }: { what: string; all?: string[] }) {
  return (
    <>
      {all?.map((s) => (
        <div key={s}>
          <span className="quiet">{what}:</span> {s}
        </div>
      ))}
    </>
  );
}

function Inside({
  last,
  instance,
}: {
  last: LastSurvey & { sort: "inside" | "client" | "config" };
  instance: Instance;
}) {
  const [chosen, setChosen] = useState<Surveyed | null>(null);
  const mayChange = useMayChange();
  const r = last.report;
  return (
    <>
      <Scrolled label="What a survey saw">
        <Table<Surveyed>
          size="small"
          style={{ display: last.sort === "config" ? "none" : undefined }}
          rowKey={(k) => k.login_user + k.fingerprint}
          dataSource={r.keys ?? []}
          pagination={(r.keys?.length ?? 0) > 20 && { pageSize: 20 }}
          columns={[
            {
              title: "Result",
              render: (_, k) => (
                <Tag color={k.result === "recorded" ? undefined : "warning"}>{k.result}</Tag>
              ),
            },
            {
              title: "Key",
              render: (_, k) =>
                k.steward ? (
                  <span className="quiet">steward</span>
                ) : k.key ? (
                  <Link to={"/keys/" + k.key}>{k.key}</Link>
                ) : (
                  <>
                    <code>{k.fingerprint.slice(0, 23)}…</code> {k.comment}
                  </>
                ),
            },
            { title: "User", dataIndex: "login_user", render: (u: string) => <code>{u}</code> },
            { title: "Where", render: (_, k) => (k.file ? `${k.file}:${k.line ?? 0}` : "") },
            { title: "Options", dataIndex: "options", render: (o?: string) => <code>{o}</code> },
            {
              title: "Do",
              render: (_, k) =>
                k.result === "unrecorded" &&
                k.limits !== "authority" && (
                  <Button size="small" disabled={!mayChange} onClick={() => setChosen(k)}>
                    Write down
                  </Button>
                ),
            },
          ]}
        />
      </Scrolled>
      <Lines what="passed over by sshd" all={[...(r.broken ?? []), ...(r.ignored ?? [])]} />
      <Lines what="another door" all={r.doors} />
      <Lines
        what="a private key lies there"
        all={r.lying?.map((l) => `${l.file} ${l.key ?? l.fingerprint ?? ""}`)}
      />
      <Lines what="configuration" all={r.config} />
      <Lines what="not seen" all={r.not_seen} />
      <TakeOver instance={instance.name} found={chosen} close={() => setChosen(null)} />
    </>
  );
}

function Outside({ last }: { last: LastSurvey & { sort: "outside" } }) {
  const r = last.report;
  return (
    <>
      {r.answers?.map((a) => (
        <div key={a.login_user + a.fingerprint}>
          <span className="quiet">{a.answer}:</span> {a.steward ? "steward" : a.key} as{" "}
          <code>{a.login_user}</code> {a.detail}
        </div>
      ))}
      <Lines
        what="offered"
        all={r.methods?.map(
          (m) => `to ${m.user}: ${m.open ? "no key is needed at all" : m.methods.join(", ")}`,
        )}
      />
      <Lines what="inbound rules admit" all={r.rules} />
      <Lines what="not seen" all={r.not_seen} />
    </>
  );
}

const titles = {
  inside: "From inside, by the steward",
  client: "From inside, by an engineer's client",
  outside: "From outside, without any private key",
  config: "Its configuration, as far as every user may read it",
};

export function Surveys({ instance }: { instance: Instance }) {
  const mayChange = useMayChange();
  const client = useQueryClient();
  const query = useQuery(queries.surveys(instance.name));
  const look = useMutation({
    mutationFn: (outside: boolean) => api.survey(instance.name, !outside, outside),
    onSettled: () => changed.access(client),
  });
  return (
    <>
      <Space wrap className="gap">
        <Button
          loading={look.isPending}
          disabled={!mayChange || instance.state !== "running"}
          onClick={() => look.mutate(false)}
        >
          Look inside now
        </Button>
        <Button
          disabled={!mayChange || look.isPending || instance.state !== "running"}
          onClick={() => look.mutate(true)}
        >
          Ask from outside now
        </Button>
      </Space>
      {look.error && <Alert type="error" showIcon title={look.error.message} />}
      <Loaded query={query}>
        {(page) =>
          page.items.length === 0 ? (
            <p className="quiet">It was never surveyed: what opens it is not seen.</p>
          ) : (
            page.items.map((last) => (
              <section key={last.sort} className="survey">
                <h3>
                  {titles[last.sort]}{" "}
                  <span className="quiet">
                    {last.seen_at ? `seen ${ago(last.seen_at)}` : "never seen"}
                    {last.vantage && `, ${last.vantage}`}
                  </span>
                </h3>
                {last.trouble && (
                  <Alert
                    type="warning"
                    showIcon
                    title={`The last one (${ago(last.tried_at)}) saw nothing: ${last.trouble}`}
                  />
                )}
                {last.seen_at &&
                  (last.sort === "outside" ? (
                    <Outside last={last} />
                  ) : (
                    <Inside last={last} instance={instance} />
                  ))}
              </section>
            ))
          )
        }
      </Loaded>
    </>
  );
}
