// The streams that go through the service now, and a button that ends one.
import { App, Button, Popconfirm, Table } from "antd";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, type Stream } from "./api";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { bytes } from "./text";
import { When } from "./when";

/** What the service can know of the streams to an instance, "" for all; nothing where there is none. */
export function Streams({ instance }: { instance: string }) {
  const { message } = App.useApp();
  const client = useQueryClient();
  const mayChange = useMayChange();
  const query = useQuery(queries.streams(instance));
  const end = useMutation({
    mutationFn: api.endStream,
    onSuccess: () => {
      void message.success("It ends within some seconds");
      return changed.streams(client);
    },
    onError: (e) => void message.error(e.message),
  });
  const rows = query.data?.items ?? [];
  if (rows.length === 0) return null;
  return (
    <Table<Stream>
      className="gap scrolled"
      size="small"
      rowKey="id"
      pagination={false}
      dataSource={rows}
      scroll={{ x: "max-content" }}
      title={() =>
        "Open sessions through the service: who, since when, how many bytes. What goes through them it cannot read."
      }
      columns={[
        { title: "Stream", dataIndex: "id" },
        {
          title: "Instance",
          render: (_, s) => <Link to={"/instances/" + s.instance}>{s.instance}</Link>,
        },
        { title: "By", render: (_, s) => `${s.operator}, from ${s.address}` },
        { title: "Way", render: (_, s) => (s.way === "agent" ? "its agent" : "the service") },
        { title: "Since", render: (_, s) => <When at={s.begun} /> },
        { title: "Bytes to it, and from it", render: (_, s) => `${bytes(s.up)}, ${bytes(s.down)}` },
        { title: "Why", dataIndex: "reason" },
        {
          title: "",
          render: (_, s) => (
            <Popconfirm
              title={`End the session of ${s.operator} on ${s.instance}?`}
              okText="End it"
              onConfirm={() => end.mutate(s.id)}
            >
              <Button size="small" danger disabled={!mayChange}>
                End it
              </Button>
            </Popconfirm>
          ),
        },
      ]}
    />
  );
}
