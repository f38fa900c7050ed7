// Who did what, and whether the journal still says what was written.
import { Alert, Button, Input, Space, Table } from "antd";
import { useState } from "react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { api, type JournalEntry } from "./api";
import { useParam } from "./param";
import { Loaded, Scrolled, Title } from "./parts";
import { queries } from "./queries";

export function JournalPage() {
  const [target, setTarget] = useParam("target");
  const [cursors, setCursors] = useState<string[]>([]);
  const query = useQuery(
    queries.journal({ target, limit: 50, cursor: cursors.at(-1) }, cursors.length === 0),
  );
  const verify = useMutation({ mutationFn: api.verifyJournal });
  return (
    <>
      <Title
        actions={
          <Button loading={verify.isPending} onClick={() => verify.mutate()}>
            Verify
          </Button>
        }
      >
        Journal
      </Title>
      {verify.error && <Alert type="error" showIcon title={verify.error.message} />}
      {verify.data && (
        <Alert
          className="gap"
          showIcon
          type={verify.data.breaks.length > 0 ? "error" : "success"}
          title={
            verify.data.breaks.length > 0
              ? `The journal does not hold: ${verify.data.breaks.length} breaks`
              : `The journal holds: ${verify.data.links} links, ${verify.data.heads} signed heads`
          }
          description={
            <>
              {verify.data.breaks.map((b) => (
                <div key={b}>{b}</div>
              ))}
              {verify.data.unchained > 0 && (
                <div>
                  Not chained yet: {verify.data.unchained}, the oldest{" "}
                  {Math.round(verify.data.unchained_age_seconds)} s old.
                </div>
              )}
              {verify.data.owner_role && (
                <div>The service&apos;s own database role could change the journal.</div>
              )}
              <div className="quiet">
                The service says so of itself. <code>plumlatch journal verify</code> computes it on
                your machine, against what that has seen before.
              </div>
            </>
          }
        />
      )}
      <Space className="filters">
        <Input.Search
          allowClear
          placeholder="target, such as instance berth-board-1"
          aria-label="target, such as instance berth-board-1"
          defaultValue={target}
          onSearch={(v) => {
            setCursors([]);
            setTarget(v);
          }}
        />
      </Space>
      <Loaded query={query}>
        {(page) => (
          <>
            <Scrolled label="Entries of the journal">
              <Table<JournalEntry>
                size="small"
                rowKey="id"
                dataSource={page.items}
                pagination={false}
                locale={{ emptyText: "The journal has nothing on that." }}
                columns={[
                  { title: "Entry", dataIndex: "id", align: "right" },
                  { title: "At", render: (_, e) => new Date(e.at).toLocaleString() },
                  { title: "Operator", dataIndex: "operator" },
                  { title: "From", dataIndex: "address" },
                  { title: "Action", dataIndex: "action" },
                  { title: "Target", dataIndex: "target" },
                  {
                    title: "What",
                    render: (_, e) => (
                      <>
                        {e.of ? <span className="quiet">of {e.of}: </span> : null}
                        {[e.intent, e.outcome].filter(Boolean).join(": ")}
                      </>
                    ),
                  },
                ]}
              />
            </Scrolled>
            <Space className="pages">
              <Button
                disabled={cursors.length === 0}
                onClick={() => setCursors(cursors.slice(0, -1))}
              >
                Newer
              </Button>
              <Button
                disabled={!page.next_cursor}
                onClick={() => setCursors([...cursors, page.next_cursor ?? ""])}
              >
                Older
              </Button>
            </Space>
          </>
        )}
      </Loaded>
    </>
  );
}
