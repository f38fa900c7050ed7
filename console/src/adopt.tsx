// Adopting is done on the engineer's own machine, where the private key is: the page makes the command.
import { Alert, Button, Checkbox, Form, Input, InputNumber, Popconfirm, Table } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type Discovered } from "./api";
import { Loaded, Mono, Scrolled, Title } from "./parts";
import { changed, queries } from "./queries";
import { shellWord } from "./text";

interface Fields {
  name: string;
  address: string;
  port: number;
  user: string;
  identity: string;
  jump: string;
  holder: string;
  steward: boolean;
}

const begun: Fields = {
  name: "",
  address: "",
  port: 22,
  user: "",
  identity: "",
  jump: "",
  holder: "",
  steward: true,
};

/** The address with its port, as the command takes it: an IPv6 address then stands in brackets. */
const at = (f: Fields) =>
  f.port === 22
    ? f.address.trim()
    : `${f.address.includes(":") ? `[${f.address.trim()}]` : f.address.trim()}:${f.port}`;

function commandOf(f: Fields): string {
  const words = ["plumlatch", "instance", "adopt", shellWord(f.name.trim() || "NAME")];
  const option = (name: string, value: string) => {
    if (value.trim()) {
      words.push(name, shellWord(value.trim()));
    }
  };
  words.push("-address", f.address.trim() ? shellWord(at(f)) : "ADDRESS");
  option("-user", f.user);
  words.push("-identity", f.identity.trim() ? shellWord(f.identity.trim()) : "FILE");
  option("-jump", f.jump);
  option("-holder", f.holder);
  if (!f.steward) {
    words.push("-no-steward");
  }
  return words.join(" ");
}

export function AdoptPage() {
  const [fields, setFields] = useState(begun);
  return (
    <>
      <Title>Adopt an instance</Title>
      <Found />
      <h2>One that a key of yours opens</h2>
      <p>
        It is there already, and a private key of yours opens it. That key stays on your machine, so
        the command runs there: it gets in, checks the host key, finds out which file counts, and
        records what opens it.
      </p>
      <Form
        layout="vertical"
        className="adopt"
        initialValues={begun}
        onValuesChange={(_, all: Fields) => setFields(all)}
      >
        <Form.Item name="name" label="Name here">
          <Input autoComplete="off" placeholder="old-berth-1" />
        </Form.Item>
        <Form.Item name="address" label="Address or DNS name">
          <Input autoComplete="off" placeholder="192.0.2.17" />
        </Form.Item>
        <Form.Item name="port" label="Port of its SSH server">
          <InputNumber min={1} max={65535} />
        </Form.Item>
        <Form.Item name="user" label="Login user" extra="Without one, yours on that machine.">
          <Input autoComplete="off" placeholder="debian" />
        </Form.Item>
        <Form.Item name="identity" label="File with your private key">
          <Input autoComplete="off" placeholder="~/.ssh/harbour-ops" />
        </Form.Item>
        <Form.Item name="holder" label="Who holds that key" extra="Without one, you are asked.">
          <Input autoComplete="off" placeholder="harbour-lead" />
        </Form.Item>
        <Form.Item name="jump" label="Through a jump host">
          <Input autoComplete="off" placeholder="USER@HOST:PORT" />
        </Form.Item>
        <Form.Item name="steward" valuePropName="checked" label="The service's own key">
          <Checkbox>
            Place it there, limited to SFTP: then the service surveys and rotates by itself
          </Checkbox>
        </Form.Item>
      </Form>
      <div className="way-in">
        <span>On your machine:</span>
        <Mono label="Copy the command">{commandOf(fields)}</Mono>
      </div>
      <p className="quiet">
        Many at once, from an OpenSSH client configuration or a CSV file:{" "}
        <Mono label="Copy the command for many">
          {`plumlatch instance adopt-many ~/.ssh/config -holder ${fields.holder.trim() ? shellWord(fields.holder.trim()) : "NAME"}`}
        </Mono>
      </p>
    </>
  );
}

/** What the cloud has and the ledger does not know: adopted from here, though nobody gets in. */
function Found() {
  const client = useQueryClient();
  const navigate = useNavigate();
  const query = useQuery(queries.discovery());
  const adopt = useMutation({
    mutationFn: (d: Discovered) => api.adoptFound(d.cloud_id),
    onSuccess: async (i) => {
      await changed.instance(client);
      await navigate(`/instances/${encodeURIComponent(i.name)}`);
    },
  });
  return (
    <>
      <h2>In the cloud, and not recorded</h2>
      <p>
        No key is needed for these: what the cloud says of them is recorded, and a restore lets
        somebody in. That is for admins, and whom the policy names.
      </p>
      {adopt.error && <Alert type="error" showIcon title={adopt.error.message} />}
      <Loaded query={query}>
        {(data) => (
          <Scrolled label="In the cloud, and not recorded">
            <Table<Discovered>
              size="small"
              rowKey="cloud_id"
              dataSource={data.unknown}
              pagination={false}
              locale={{ emptyText: "The ledger knows all that the cloud has." }}
              columns={[
                { title: "Name", dataIndex: "name" },
                { title: "Cloud ID", dataIndex: "cloud_id" },
                { title: "Region", dataIndex: "region" },
                { title: "State", dataIndex: "state" },
                { title: "Login user", render: (_: unknown, d) => d.login_user ?? "not known" },
                {
                  title: "To know",
                  render: (_: unknown, d) =>
                    [
                      d.stop_destroys && `stopping it would be its end: ${d.stop_destroys}`,
                      d.never && `left alone: it bears ${d.never}`,
                      d.like && `adopted as ${d.like}, it seems`,
                      d.key_label && `the cloud's label says ${d.key_label}`,
                    ]
                      .filter(Boolean)
                      .join("; "),
                },
                {
                  title: "What to do",
                  render: (_: unknown, d) =>
                    d.never ? (
                      "nothing"
                    ) : d.like ? (
                      <Mono label="Copy the command">
                        {`plumlatch instance link ${shellWord(d.like)} ${shellWord(d.cloud_id)}`}
                      </Mono>
                    ) : !d.login_user ? (
                      <Mono label="Copy the command">
                        {`plumlatch discover adopt ${shellWord(d.cloud_id)} -user USER`}
                      </Mono>
                    ) : (
                      <Popconfirm
                        title={`Adopt ${d.name}?`}
                        description="Nothing is changed there. A restore can let somebody in as root then."
                        okText="Adopt"
                        onConfirm={() => adopt.mutate(d)}
                      >
                        <Button
                          size="small"
                          aria-label={`Adopt ${d.name}`}
                          loading={adopt.isPending}
                        >
                          Adopt
                        </Button>
                      </Popconfirm>
                    ),
                },
              ]}
            />
          </Scrolled>
        )}
      </Loaded>
    </>
  );
}
