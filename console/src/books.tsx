// Keybooks: a text set against the ledger, grouped by instance or by person; settled; and the texts that were settled.
import { InboxOutlined } from "@ant-design/icons";
import {
  Alert,
  App,
  Button,
  Card,
  Checkbox,
  Input,
  InputNumber,
  Modal,
  Radio,
  Space,
  Table,
  Tag,
  Upload,
} from "antd";
import { useMemo, useState } from "react";
import { Link, useNavigate } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  api,
  type Book,
  type BookItem,
  type BookText,
  type Compared,
  type Difference,
} from "./api";
import { Failed, Loaded, Mono, Nothing, Scrolled, Title } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { When } from "./when";

/** What the items of each sort are, in the order in which they matter. */
const titles: Record<string, string> = {
  cannot: "cannot be",
  withdraw: "to withdraw",
  change: "to change",
  add: "to add",
  "take-over": "there already, to record",
  launch: "to launch",
  "key-add": "keys to record",
  "key-set": "keys to change",
  "holder-add": "holders to record",
  "holder-set": "teams to change",
  "check-set": "checks to set",
  "list-add": "to take into the cloud's lists",
  "rule-add": "inbound rules to add",
  hand: "for somebody's hand",
  "by-hand": "changed by hand, left as it is",
  shared: "left until its end",
  listed: "not covered by the book",
  "scope-in": "came into its scope",
  "scope-out": "left its scope",
  "cloud-tag": "tagged by the cloud alone",
  "no-match": "chooses nothing",
  "not-seen": "not seen",
};

/** What is told, and not done. */
const told = [
  "by-hand",
  "shared",
  "listed",
  "scope-in",
  "scope-out",
  "cloud-tag",
  "no-match",
  "not-seen",
];

const colours: Record<string, string> = {
  cannot: "red",
  withdraw: "orange",
  change: "gold",
  add: "green",
};

const nothingToDo = (d: Difference) => d.items.every((i) => told.includes(i.do));

/** One line of a difference. */
function Item({ item, instance }: { item: BookItem; instance: boolean }) {
  return (
    <li>
      <Tag color={told.includes(item.do) ? undefined : (colours[item.do] ?? "blue")}>
        {titles[item.do] ?? item.do}
      </Tag>
      {item.sentence}
      {item.cut_off && <strong>; nobody gets in afterwards</strong>}
      {item.doubt && `; ${item.doubt}`}
      <span className="quiet">
        {item.evidence && ` ${item.evidence}.`}
        {item.away && " It does not run, and is taken when it is back."}
        {item.at && ` ${item.at.file}:${String(item.at.line ?? 1)}`}
        {instance && item.instance && (
          <>
            {" "}
            <Link to={`/instances/${item.instance}`}>{item.instance}</Link>
          </>
        )}
      </span>
    </li>
  );
}

const shownGroups = 100;

/** A difference, grouped by instance or by person. */
export function Grouped({
  difference: d,
  by,
}: {
  difference: Difference;
  by: "instance" | "person";
}) {
  const groups = useMemo(() => {
    const out = new Map<string, BookItem[]>();
    for (const i of d.items) {
      const name =
        by === "instance"
          ? i.instance || "the ledger"
          : i.holder || (i.key ? `the holder of ${i.key}` : "nobody in particular");
      out.set(name, [...(out.get(name) ?? []), i]);
    }
    return [...out.entries()];
  }, [d, by]);
  return (
    <>
      {groups.slice(0, shownGroups).map(([name, items]) => (
        <Card key={name} size="small" className="gap" title={name}>
          <ul className="book-items">
            {items.slice(0, 50).map((i, n) => (
              <Item key={n} item={i} instance={by === "person"} />
            ))}
            {items.length > 50 && <li className="quiet">and {items.length - 50} more</li>}
          </ul>
        </Card>
      ))}
      {groups.length > shownGroups && (
        <p className="quiet">
          and {groups.length - shownGroups} more: plumlatch keybook compare -all shows everything.
        </p>
      )}
    </>
  );
}

/** What a comparison came to, and the button that settles it. */
function Result({ text, compared }: { text: BookText; compared: Compared }) {
  const [by, setBy] = useState<"instance" | "person">("instance");
  const [asked, setAsked] = useState(false);
  const [withdraw, setWithdraw] = useState<number | null>(null);
  const [cutOff, setCutOff] = useState<number | null>(null);
  const [launch, setLaunch] = useState(false);
  const [version, setVersion] = useState("");
  const mayChange = useMayChange();
  const navigate = useNavigate();
  const client = useQueryClient();
  const d = compared.difference;
  const settle = useMutation({
    mutationFn: () =>
      api.settleBook({
        ...text,
        compared: d?.hash ?? "",
        withdraw: withdraw ?? 0,
        cut_off: cutOff ?? 0,
        launch,
        version,
      }),
    onSuccess: async (w) => {
      await changed.books(client);
      await navigate(`/work/${String(w.id)}`);
    },
  });
  const findings = compared.report.findings;
  if (!d) {
    return (
      <Alert
        type="error"
        showIcon
        title="Something is wrong with the keybook"
        description={
          <ul className="book-items">
            {findings.map((f, n) => (
              <li key={n}>
                <code>
                  {f.file}:{f.line ?? 1}:{f.column ?? 1}
                </code>{" "}
                {f.sentence}
                {f.near && f.near.length > 0 && `; did you mean ${f.near.join(" or ")}?`}
              </li>
            ))}
          </ul>
        }
      />
    );
  }
  const withdrawals = d.counts.withdraw ?? 0;
  return (
    <>
      {nothingToDo(d) ? (
        <Alert
          type="success"
          showIcon
          title={`All is as the keybook ${d.book} says`}
          className="gap"
        />
      ) : (
        <Alert
          type={d.cut_offs > 0 ? "error" : "info"}
          showIcon
          className="gap"
          title={Object.entries(titles)
            .filter(([k]) => (d.counts[k] ?? 0) > 0 && !told.includes(k))
            .map(([k, words]) => `${String(d.counts[k])} ${words}`)
            .join(", ")}
          description={
            <>
              It touches {d.instances} instance{d.instances === 1 ? "" : "s"}.
              {d.scope > 0 && ` The book is complete for ${String(d.scope)}.`}
              {d.unseen > 0 && ` No survey has read the files of ${String(d.unseen)} of them.`}
              {d.cut_offs > 0 && ` Nobody would get into ${String(d.cut_offs)} any more.`}
              {compared.word && ` The policy asks for a word before it begins (${compared.word}).`}
              <br />
              Difference <Mono>{d.hash}</Mono>
            </>
          }
        />
      )}
      <Space wrap className="gap">
        <Radio.Group
          value={by}
          onChange={(e) => setBy(e.target.value as "instance" | "person")}
          optionType="button"
          options={[
            { value: "instance", label: "By instance" },
            { value: "person", label: "By person" },
          ]}
        />
        {mayChange && !nothingToDo(d) && (
          <Button type="primary" onClick={() => setAsked(true)}>
            Settle it
          </Button>
        )}
      </Space>
      {d.items.length > 0 && <Grouped difference={d} by={by} />}
      <Modal
        open={asked}
        title={`Settle the keybook ${d.book}?`}
        okText="Settle it"
        onOk={() => settle.mutate()}
        confirmLoading={settle.isPending}
        okButtonProps={{
          disabled:
            (withdrawals > d.limit && withdraw !== withdrawals) || (cutOff ?? 0) !== d.cut_offs,
        }}
        onCancel={() => setAsked(false)}
      >
        <p>
          Each instance is touched once for all its changes. What rule 1 keeps stays, and is told.
        </p>
        <Space direction="vertical">
          {withdrawals > d.limit && (
            <label>
              It withdraws {withdrawals}, which is more than {d.limit}. Write that number:{" "}
              <InputNumber min={0} value={withdraw} onChange={setWithdraw} />
            </label>
          )}
          {d.cut_offs > 0 && (
            <label>
              Nobody gets into {d.cut_offs} any more. Write that number:{" "}
              <InputNumber min={0} value={cutOff} onChange={setCutOff} />
            </label>
          )}
          {(d.counts.launch ?? 0) > 0 && (
            <Checkbox checked={launch} onChange={(e) => setLaunch(e.target.checked)}>
              Launch what does not exist: {d.counts.launch}
            </Checkbox>
          )}
          <label>
            Version of the text, if it has one:{" "}
            <Input value={version} maxLength={100} onChange={(e) => setVersion(e.target.value)} />
          </label>
        </Space>
        {settle.error && <Failed error={settle.error} />}
      </Modal>
    </>
  );
}

/** Puts a text together: files that are chosen, or what is pasted. */
function Compare() {
  const { message } = App.useApp();
  const [files, setFiles] = useState<Record<string, string>>({});
  const [pasted, setPasted] = useState("");
  const compare = useMutation({
    mutationFn: (text: BookText) => api.compareBook(text),
    onError: (e) => void message.error(e.message),
  });
  const text = useMemo<BookText>(() => {
    const names = Object.keys(files).sort();
    return {
      files: [
        ...names.filter((n) => /\.ya?ml$/.test(n)).map((n) => ({ name: n, text: files[n] ?? "" })),
        ...(pasted.trim() ? [{ name: "pasted.yaml", text: pasted }] : []),
      ],
      publics: Object.fromEntries(
        names.filter((n) => n.endsWith(".pub")).map((n) => [n, files[n] ?? ""]),
      ),
    };
  }, [files, pasted]);
  return (
    <Card size="small" title="Set a keybook against the ledger" className="gap">
      <Upload.Dragger
        multiple
        showUploadList={false}
        beforeUpload={async (f) => {
          const name = f.webkitRelativePath.split("/").slice(1).join("/") || f.name;
          if (!/\.(ya?ml|pub)$/.test(name)) {
            void message.warning(
              `${name} is left alone: a keybook has .yaml files, and .pub files beside them`,
            );
            return Upload.LIST_IGNORE;
          }
          const content = await f.text();
          setFiles((had) => ({ ...had, [name]: content }));
          return Upload.LIST_IGNORE;
        }}
      >
        <p>
          <InboxOutlined /> Drop its .yaml files here, with the .pub files that it names
        </p>
      </Upload.Dragger>
      {Object.keys(files).length > 0 && (
        <p>
          {Object.keys(files)
            .sort()
            .map((n) => (
              <Tag
                key={n}
                closable
                onClose={() =>
                  setFiles((had) =>
                    Object.fromEntries(Object.entries(had).filter(([k]) => k !== n)),
                  )
                }
              >
                {n}
              </Tag>
            ))}
        </p>
      )}
      <Input.TextArea
        className="gap mono-text"
        aria-label="Or paste the text of a keybook"
        placeholder={
          "Or paste it:\nkeybook: ferry-line\naccess:\n  - whom: ada\n    to: {tag: env=prod}"
        }
        rows={6}
        value={pasted}
        onChange={(e) => setPasted(e.target.value)}
      />
      <Button
        type="primary"
        className="gap"
        disabled={text.files.length === 0}
        loading={compare.isPending}
        onClick={() => compare.mutate(text)}
      >
        Compare
      </Button>
      {compare.data && compare.variables && (
        <Result text={compare.variables} compared={compare.data} />
      )}
    </Card>
  );
}

/** A text that was settled, and what has changed since. */
function Settled({ work }: { work: number }) {
  const query = useQuery(queries.book(work));
  const since = useMutation({
    mutationFn: (b: Book) => api.compareBook({ files: b.files ?? [], publics: b.publics ?? {} }),
  });
  return (
    <Loaded query={query}>
      {(b) => (
        <>
          <p>
            Settled by {b.operator}, <When at={b.at} />
            {b.version && `, version ${b.version}`}. Text <Mono>{b.text}</Mono>
            {b.complete && ` It is complete for ${b.complete}.`}
          </p>
          <Space className="gap">
            <Link to={`/work/${String(b.work)}`}>Its work</Link>
            <Button size="small" loading={since.isPending} onClick={() => since.mutate(b)}>
              What has changed since
            </Button>
          </Space>
          {since.error && <Failed error={since.error} />}
          {since.data?.difference &&
            (since.data.difference.items.length === 0 ? (
              <Nothing>All is as this text says.</Nothing>
            ) : (
              <>
                <Grouped difference={since.data.difference} by="instance" />
                <Since items={since.data.difference.items} at={b.at} />
              </>
            ))}
          {since.data && !since.data.difference && (
            <Alert
              type="warning"
              showIcon
              title="This text is none any more: compare it with the client"
            />
          )}
          {(b.files ?? []).map((f) => (
            <details key={f.name} open={(b.files ?? []).length === 1}>
              <summary>{f.name}</summary>
              <pre className="book-text">{f.text}</pre>
            </details>
          ))}
        </>
      )}
    </Loaded>
  );
}

/** Who changed what on the instances of a difference, since a text was settled. */
function Since({ items, at }: { items: BookItem[]; at: string }) {
  const names = [...new Set(items.map((i) => i.instance).filter((n): n is string => !!n))].slice(
    0,
    10,
  );
  const query = useQuery(queries.journalOf(names, at));
  if (names.length === 0) {
    return null;
  }
  return (
    <Loaded query={query}>
      {(entries) =>
        entries.length === 0 ? (
          <p className="quiet">The journal has nothing of these instances since then.</p>
        ) : (
          <ul className="book-items">
            {entries.map((e) => (
              <li key={e.id}>
                <When at={e.at} /> {e.operator}: {e.target}, {e.intent}{" "}
                <span className="quiet">{e.outcome}</span>
              </li>
            ))}
          </ul>
        )
      }
    </Loaded>
  );
}

export function BooksPage() {
  const query = useQuery(queries.books());
  const [open, setOpen] = useState<number>();
  return (
    <>
      <Title>Keybooks</Title>
      <p className="quiet">
        A keybook is a text that says which keys, people and accesses should exist. It is kept under
        version control, and compared and settled as often as wanted.
      </p>
      <Compare />
      <Loaded query={query}>
        {(data) => (
          <Scrolled label="Keybooks that were settled">
            <Table<Book>
              size="small"
              rowKey="work"
              dataSource={data.items}
              pagination={false}
              locale={{ emptyText: "No keybook was settled yet." }}
              columns={[
                { title: "Book", dataIndex: "name" },
                { title: "Settled", render: (_, b) => <When at={b.at} /> },
                { title: "By", dataIndex: "operator" },
                { title: "Version", dataIndex: "version" },
                { title: "Text", render: (_, b) => <code>{b.text.slice(0, 12)}</code> },
                {
                  title: "What",
                  render: (_, b) =>
                    Object.entries(titles)
                      .filter(([k]) => (b.counts[k] ?? 0) > 0 && !told.includes(k))
                      .map(([k, words]) => `${String(b.counts[k])} ${words}`)
                      .join(", ") || "nothing",
                },
                {
                  title: "Work",
                  render: (_, b) => <Link to={`/work/${String(b.work)}`}>{b.state}</Link>,
                },
                {
                  title: "",
                  render: (_, b) => (
                    <Button size="small" onClick={() => setOpen(b.work)}>
                      Its text
                    </Button>
                  ),
                },
              ]}
            />
          </Scrolled>
        )}
      </Loaded>
      <Modal
        open={open !== undefined}
        width={900}
        title="A text that was settled"
        footer={null}
        onCancel={() => setOpen(undefined)}
        destroyOnHidden
      >
        {open !== undefined && <Settled work={open} />}
      </Modal>
    </>
  );
}
