import { Alert, Button, Checkbox, Form, Input, Select, Space } from "antd";
import { useNavigate } from "react-router";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type LaunchRequest, Problem } from "./api";
import { Failed, Loaded, Title } from "./parts";
import { useMayChange } from "./session";

type Fields = Omit<LaunchRequest, "keys" | "no_key"> & { keys?: string[]; no_key?: boolean };

const request = (f: Fields): LaunchRequest => ({
  ...f,
  keys: f.keys ?? [],
  no_key: f.no_key ?? false,
});

const fieldNames = ["name", "region", "image", "size", "keys"] as const;

/** What a launch can choose from, in one go. */
async function choices() {
  const [regions, images, sizes, keys] = await Promise.all([
    api.regions(),
    api.images(),
    api.sizes(),
    api.keys({ limit: 500, state: "in use" }),
  ]);
  return { regions: regions.items, images: images.items, sizes: sizes.items, keys: keys.items };
}

export function LaunchPage() {
  const [form] = Form.useForm<Fields>();
  const navigate = useNavigate();
  const mayChange = useMayChange();
  const query = useQuery({ queryKey: ["choices"], queryFn: choices });
  const noKey = Form.useWatch("no_key", form);
  const imageName = Form.useWatch("image", form);
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
      <Loaded query={query}>
        {(c) => {
          const image = c.images.find((i) => i.name === imageName);
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
                onValuesChange={() => plan.reset()}
              >
                <Form.Item
                  name="name"
                  label="Name"
                  rules={[{ required: true, message: "Give it a name" }]}
                >
                  <Input autoComplete="off" placeholder="berth-board-9" />
                </Form.Item>
                <Form.Item name="region" label="Region">
                  <Select options={c.regions.map((r) => ({ value: r.name, label: r.title }))} />
                </Form.Item>
                <Form.Item
                  name="image"
                  label="Image"
                  extra={
                    image && (
                      <>The image decides the login user: {<code>{image.login_user}</code>}</>
                    )
                  }
                >
                  <Select options={c.images.map((i) => ({ value: i.name, label: i.title }))} />
                </Form.Item>
                <Form.Item name="size" label="Size">
                  <Select
                    options={c.sizes.map((s) => ({
                      value: s.name,
                      label: `${s.name}: ${s.cpus} CPU, ${s.memory_mb / 1024} GiB memory, ${s.disk_gb} GiB disk`,
                    }))}
                  />
                </Form.Item>
                <Form.Item
                  name="keys"
                  label="Keys that open it"
                  extra="Two keys of two people: then one lost laptop is not a disaster."
                  rules={[{ required: !noKey, message: "Without a key nobody can log in" }]}
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
                <Form.Item name="no_key" valuePropName="checked">
                  <Checkbox>
                    Without a key: a locked box, into which the only way is a restore
                  </Checkbox>
                </Form.Item>
                {failed && <Failed error={failed} />}
                <Space>
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
                    Show the cloud-config
                  </Button>
                </Space>
              </Form>
              {plan.data && (
                <div>
                  {plan.data.warnings?.map((w) => (
                    <Alert key={w} type="warning" showIcon title={w} />
                  ))}
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
