import { Alert, Button, Checkbox, Form, Input, InputNumber, Modal, Select, Space } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  api,
  type Image,
  type Key,
  type LaunchRequest,
  type Price,
  Problem,
  type Size,
} from "./api";
import { Failed, Loaded, Title } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { PairMaker } from "./workbench";

type Fields = Omit<LaunchRequest, "keys" | "no_key" | "tags"> & {
  keys?: string[];
  no_key?: boolean;
  tags?: string[]; // NAME=VALUE
};

const request = (f: Fields): LaunchRequest => ({
  ...f,
  keys: f.keys ?? [],
  no_key: f.no_key ?? false,
  zone: f.zone || undefined,
  disk_gb: f.disk_gb || undefined,
  user_data: f.user_data || undefined,
  static_address: f.static_address || undefined,
  cloud_key: f.cloud_key || undefined,
  agent_verbs: f.agent_verbs?.length ? f.agent_verbs : undefined,
  tags: Object.fromEntries(
    (f.tags ?? []).map((t) => {
      const [name = "", ...value] = t.split("=");
      return [name, value.join("=")];
    }),
  ),
});

const fieldNames = [
  "name",
  "region",
  "zone",
  "image",
  "size",
  "disk_gb",
  "tags",
  "user_data",
  "static_address",
  "keys",
  "cloud_key",
  "agent_verbs",
] as const;

const agentVerbs = ["look", "edit", "users", "logins", "sessions", "stream"];

/** An amount of money: with the digits that it has, four after the point at most. */
const amount = (x: number) => (x >= 100 ? x.toFixed(0) : String(+x.toFixed(4)));

const perHour = (p: Price) => `${amount(p.hour)} ${p.currency} an hour`;

const perMonth = (p: Price) => `${amount(p.month)} ${p.currency} a month`;

const cost = (p?: Price) => (p ? `, ${perHour(p)}` : "");

const needs = (i: Image) =>
  `at least size ${i.smallest_size} and a root volume of ${i.min_disk_gb} GiB`;

const tooSmall = (s: Size, i: Image | undefined, sizes: Size[]) => {
  const least = sizes.find((z) => z.name === i?.smallest_size);
  return !!least && (s.memory_mb < least.memory_mb || s.cpus < least.cpus);
};

/** What the choice of keys means, before it is made. */
function KeyHints({ chosen }: { chosen: Key[] }) {
  const people = chosen.filter((k) => k.holder_sort !== "machine" && k.holder_sort !== "job");
  const hints: string[] = [];
  if (chosen.length > 0 && people.length === 0) {
    hints.push("Only keys of machines and jobs: no person gets in.");
  }
  if (people.length === 1) {
    hints.push(`${people[0]?.name} is the sole opener: add a second person's key.`);
  }
  for (const k of chosen.filter((k) => !k.shown_at)) {
    hints.push(`Nobody has ever shown that the private half of ${k.name} exists.`);
  }
  return hints.map((h) => (
    <span key={h} className="hint attention">
      {h}
    </span>
  ));
}

export function LaunchPage() {
  const [form] = Form.useForm<Fields>();
  const navigate = useNavigate();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const [making, setMaking] = useState(false);
  const query = useQuery(queries.launchChoices());
  const noKey = Form.useWatch("no_key", form);
  const cloudKey = Form.useWatch("cloud_key", form);
  const regionName = Form.useWatch("region", form);
  const imageName = Form.useWatch("image", form);
  const sizeName = Form.useWatch("size", form);
  const nameNow = Form.useWatch("name", form);
  const own = Form.useWatch("static_address", form) === "new";
  const keyNames = Form.useWatch("keys", form) ?? [];
  const faults = (e: Error) => {
    const field = fieldNames.find((n) => e instanceof Problem && e.field === n);
    if (field) {
      form.setFields([{ name: field, errors: [e.message] }]);
    }
  };
  const launch = useMutation({
    mutationFn: (f: Fields) => api.launch(request(f)),
    onSuccess: (i) => navigate("/instances/" + i.name),
    onError: faults,
  });
  const plan = useMutation({ mutationFn: (f: Fields) => api.plan(request(f)), onError: faults });
  const failed = [launch.error, plan.error].find((e) => e && !(e instanceof Problem && e.field));
  return (
    <>
      <Title>Launch an instance</Title>
      <Modal
        open={making}
        title="Create a key pair for it"
        footer={null}
        width={900}
        destroyOnHidden
        onCancel={() => setMaking(false)}
      >
        <PairMaker
          recorded={(k) => {
            setMaking(false);
            void changed.key(client).then(() => {
              const before = (form.getFieldValue("keys") as string[] | undefined) ?? [];
              form.setFieldsValue({ keys: [...before, k.name], no_key: false });
            });
          }}
        />
      </Modal>
      <Loaded query={query}>
        {(c) => {
          const region = c.regions.find((r) => r.name === regionName);
          const here = <T extends { regions: string[] }>(all: T[]) =>
            all.filter((x) => !regionName || x.regions.includes(regionName));
          const image = here(c.images).find((i) => i.name === imageName);
          const size = here(c.sizes).find((s) => s.name === sizeName);
          const fits = (line: string) =>
            !image || image.key_types.includes(line.split(" ")[0] ?? "");
          return (
            <div className="launch">
              <Form
                form={form}
                layout="vertical"
                requiredMark={false}
                initialValues={{
                  region: c.regions[0]?.name,
                  image: c.images[0]?.name,
                  size: c.sizes[0]?.name,
                }}
                onFinish={(f) => launch.mutate(f)}
                onValuesChange={(changed: Partial<Fields>) => {
                  plan.reset();
                  if (changed.region) {
                    form.setFieldsValue({ zone: undefined, static_address: undefined });
                  }
                }}
              >
                <div>
                  <Form.Item
                    name="name"
                    label="Name"
                    rules={[{ required: true, message: "Give it a name" }]}
                  >
                    <Input autoComplete="off" placeholder="berth-board-9" />
                  </Form.Item>
                  <Space.Compact block className="pair">
                    <Form.Item name="region" label="Region">
                      <Select options={c.regions.map((r) => ({ value: r.name, label: r.title }))} />
                    </Form.Item>
                    <Form.Item name="zone" label="Zone">
                      <Select
                        allowClear
                        placeholder="the cloud chooses"
                        options={region?.zones.map((z) => ({ value: z, label: z }))}
                      />
                    </Form.Item>
                  </Space.Compact>
                  <Form.Item
                    name="image"
                    label="Image"
                    extra={
                      image ? (
                        <>
                          The image decides the login user: <code>{image.login_user}</code>. It
                          needs {needs(image)}.
                        </>
                      ) : (
                        <span className="attention">This region does not have it.</span>
                      )
                    }
                  >
                    <Select
                      options={here(c.images).map((i) => ({ value: i.name, label: i.title }))}
                    />
                  </Form.Item>
                  <Space.Compact block className="pair">
                    <Form.Item
                      name="size"
                      label="Size"
                      extra={
                        size ? (
                          size.price && `${perHour(size.price)}, ${perMonth(size.price)}`
                        ) : (
                          <span className="attention">This region does not have it.</span>
                        )
                      }
                    >
                      <Select
                        popupMatchSelectWidth={false}
                        optionRender={(o) => (
                          <>
                            {o.label}
                            {cost(c.sizes.find((z) => z.name === o.value)?.price)}
                          </>
                        )}
                        options={here(c.sizes).map((s) => ({
                          value: s.name,
                          disabled: tooSmall(s, image, c.sizes),
                          label: `${s.name}: ${s.cpus} CPU, ${s.memory_mb / 1024} GiB${tooSmall(s, image, c.sizes) ? ", too small for the image" : ""}`,
                        }))}
                      />
                    </Form.Item>
                    <Form.Item name="disk_gb" label="Root volume, GiB">
                      <InputNumber
                        min={image?.min_disk_gb}
                        placeholder={size ? String(size.disk_gb) : ""}
                      />
                    </Form.Item>
                  </Space.Compact>
                  <Form.Item
                    name="static_address"
                    label="Static address"
                    extra={
                      own
                        ? `It is reserved as ${nameNow || "the instance's name"}${cost(c.addressPrice)}.`
                        : "Without one its address changes when it is stopped."
                    }
                  >
                    <Select
                      allowClear
                      placeholder="none"
                      options={[
                        { value: "new", label: "a new one" },
                        ...c.addresses
                          .filter((a) => a.region === regionName && !a.cloud_id)
                          .map((a) => ({ value: a.name, label: `${a.name}: ${a.address}` })),
                      ]}
                    />
                  </Form.Item>
                </div>
                <div>
                  <Form.Item
                    name="keys"
                    label="Keys that open it"
                    extra={
                      <>
                        Two keys of two people: then one lost laptop is not a disaster.
                        <KeyHints chosen={c.keys.filter((k) => keyNames.includes(k.name))} />
                      </>
                    }
                    rules={[
                      { required: !noKey && !cloudKey, message: "Without a key nobody can log in" },
                    ]}
                  >
                    <Select
                      mode="multiple"
                      disabled={noKey}
                      options={c.keys.map((k) => ({
                        value: k.name,
                        label: fits(k.public_key)
                          ? `${k.name} (${k.kind})`
                          : `${k.name}: ${image?.title} takes no ${k.kind}`,
                        disabled: !fits(k.public_key),
                      }))}
                    />
                  </Form.Item>
                  <Form.Item>
                    <Button size="small" disabled={!mayChange} onClick={() => setMaking(true)}>
                      Create a pair for it
                    </Button>
                  </Form.Item>
                  <Form.Item
                    name="cloud_key"
                    label="Or an entry of the cloud's own list"
                    extra="The cloud places it. Which key that is stays its word until a survey has seen it."
                  >
                    <Input
                      autoComplete="off"
                      disabled={noKey}
                      placeholder="as it is listed there"
                    />
                  </Form.Item>
                  <Form.Item name="no_key" valuePropName="checked">
                    <Checkbox>
                      Without a key: a locked box, into which the only way is a restore
                    </Checkbox>
                  </Form.Item>
                  <Form.Item
                    name="tags"
                    label="Tags"
                    rules={[
                      {
                        validator: (_, v?: string[]) =>
                          (v ?? []).every((t) => /^[A-Za-z0-9][A-Za-z0-9._-]*=/.test(t))
                            ? Promise.resolve()
                            : Promise.reject(new Error("Each is NAME=VALUE")),
                      },
                    ]}
                  >
                    <Select mode="tags" open={false} placeholder="line=north" suffixIcon={null} />
                  </Form.Item>
                  <Form.Item
                    name="agent_verbs"
                    label="Resident agent"
                    extra="First boot enrolls it, if it may do something. The people of the keys above may sign for it. To look alone is a good choice."
                  >
                    <Select
                      mode="multiple"
                      placeholder="none"
                      options={agentVerbs.map((v) => ({ value: v, label: v }))}
                    />
                  </Form.Item>
                  <Form.Item
                    name="user_data"
                    label="Your own user data"
                    extra="A cloud-config, a script or a multi-part message. It comes first, and the keys are merged after it: they add to its lists and change nothing that it sets."
                  >
                    <Input.TextArea
                      rows={3}
                      className="mono"
                      spellCheck={false}
                      placeholder={"#cloud-config\npackages: [rsync]"}
                    />
                  </Form.Item>
                </div>
                <div className="both">
                  {failed && <Failed error={failed} />}
                  <Space wrap>
                    <Button
                      type="primary"
                      onClick={() => form.submit()}
                      loading={launch.isPending}
                      disabled={!mayChange}
                    >
                      Launch
                    </Button>
                    <Button
                      loading={plan.isPending}
                      disabled={!mayChange}
                      onClick={() =>
                        void form.validateFields().then(
                          (f) => plan.mutate(f),
                          () => undefined,
                        )
                      }
                    >
                      Show what it costs, and its cloud-config
                    </Button>
                  </Space>
                </div>
              </Form>
              {plan.data && (
                <div>
                  {plan.data.warnings?.map((w) => (
                    <Alert key={w} type="warning" showIcon title={w} className="gap" />
                  ))}
                  {plan.data.price && (
                    <>
                      <h2>What it costs</h2>
                      <p>
                        {perHour(plan.data.price)}, {perMonth(plan.data.price)}, by the cloud&apos;s
                        list, with its root volume{own ? " and its static address" : ""}.
                        {plan.data.seconds
                          ? ` It usually runs after ${Math.max(1, Math.round(plan.data.seconds))} s, and boots then.`
                          : ""}
                      </p>
                    </>
                  )}
                  <h2>What first boot will read</h2>
                  <p className="quiet">The steward&apos;s key is made anew at the launch.</p>
                  <pre>{plan.data.user_data}</pre>
                </div>
              )}
            </div>
          );
        }}
      </Loaded>
    </>
  );
}
