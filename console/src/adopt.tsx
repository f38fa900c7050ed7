// Adopting is done on the engineer's own machine, where the private key is: the page makes the command.
import { Checkbox, Form, Input, InputNumber } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { Mono, Title } from "./parts";
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
      <p>
        It is there already, and a private key of yours opens it. That key stays on your machine, so
        the command runs there: it gets in, checks the host key, finds out which file counts, and
        records what opens it. What the cloud has and nobody recorded stands on{" "}
        <Link to="/today?reason=unknown-instance">Today</Link>.
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
