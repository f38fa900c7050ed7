// "Why can't I get in?": a checklist from outside to inside.
import { Alert, Button, Input, Select, Space } from "antd";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { useQuery } from "@tanstack/react-query";
import type { Finding, WhyReport } from "./api";
import { useParam } from "./param";
import { Loaded, Mono, Title } from "./parts";
import { queries } from "./queries";

const stages = [
  "instance",
  "network",
  "server",
  "your file",
  "account",
  "key on the instance",
  "session",
];

function Wrong({ finding, first }: { finding: Finding; first: boolean }) {
  return (
    <li className={first ? "first" : "also"}>
      <span className="stage">{finding.stage}</span>
      <span className="verdict">{first ? "\u2716 wrong" : "\u2716 also"}</span>
      <div>
        <div>{finding.sentence}</div>
        {(finding.expected || finding.found) && (
          <dl className="side-by-side">
            <dt>expected</dt>
            <dd>{finding.expected || "\u2013"}</dd>
            <dt>found</dt>
            <dd>{finding.found || "\u2013"}</dd>
          </dl>
        )}
        <div className="quiet">{finding.evidence}</div>
        <div>
          next:{" "}
          {finding.next?.startsWith("plumlatch ") ? (
            <Mono label="Copy the command">{finding.next}</Mono>
          ) : (
            finding.next
          )}
        </div>
      </div>
    </li>
  );
}

/** What is fine, folded: one looks for what is not. */
function Fine({ report }: { report: WhyReport }) {
  const seen = new Set<string>();
  const head = (stage: string) => {
    const word = seen.has(stage) ? "" : stage;
    seen.add(stage);
    return word;
  };
  const passed = stages.flatMap((s) => report.passed.filter((p) => p.stage === s));
  if (passed.length === 0) {
    return null;
  }
  const where = [...new Set(passed.map((p) => p.stage))].join(", ");
  return (
    <details className="fine" open={!report.first}>
      <summary>
        {passed.length === 1 ? "1 thing is fine" : `${passed.length} things are fine`}: {where}
      </summary>
      <ol className="checklist">
        {passed.map((p) => (
          <li key={p.code + p.sentence} className="ok">
            <span className="stage">{head(p.stage)}</span>
            <span className="verdict">{"\u2714 ok"}</span>
            <span>{p.sentence}</span>
          </li>
        ))}
      </ol>
    </details>
  );
}

function Checklist({ report }: { report: WhyReport }) {
  return (
    <ol className="checklist">
      {stages.map((stage) => [
        report.first?.stage === stage && <Wrong key="first" finding={report.first} first />,
        ...report.also
          .filter((f) => f.stage === stage)
          .map((f) => <Wrong key={f.code} finding={f} first={false} />),
      ])}
      {report.not_seen.map((s) => (
        <li key={s} className="unseen">
          <span className="stage" />
          <span className="verdict">{"\u25cb not seen"}</span>
          <span>{s}</span>
        </li>
      ))}
    </ol>
  );
}

export function WhyPage() {
  const { name = "" } = useParams();
  const [key, setKey] = useParam("key");
  const [user, setUser] = useParam("user");
  const [round, setRound] = useState(0);
  const access = useQuery({ ...queries.accessOf({ instance: name }), retry: false });
  const keys = access.data?.filter((a) => !a.steward) ?? [];
  const chosen = keys.find((a) => a.key === key);
  const query = useQuery({
    ...queries.why(name, key, chosen?.public_key ?? "", user ?? "", round),
    enabled: access.isSuccess,
  });
  return (
    <>
      <Title
        actions={
          <Button loading={query.isFetching} onClick={() => setRound((r) => r + 1)}>
            Look again
          </Button>
        }
      >
        <span>
          Why can&apos;t I get in to <Link to={"/instances/" + name}>{name}</Link>?
        </span>
      </Title>
      <Space className="filters">
        <Select
          allowClear
          aria-label="Key"
          placeholder="with the key that is known best"
          className="wide"
          value={key || undefined}
          onChange={(v?: string) => setKey(v)}
          options={[...new Set(keys.map((a) => a.key))].map((k) => ({ value: k, label: k }))}
        />
        <Input.Search
          allowClear
          aria-label="Login user"
          placeholder="as the recorded login user"
          defaultValue={user}
          enterButton="Look"
          onSearch={(v) => setUser(v || undefined)}
        />
      </Space>
      <Loaded query={access.isError ? { ...query, error: access.error } : query}>
        {(report) => (
          <>
            <p>
              As <code>{report.user}</code>
              {report.key && (
                <>
                  , with <code>{report.key}</code>
                </>
              )}
              , seen from the service.
            </p>
            {report.first ? (
              <Alert
                type="warning"
                showIcon
                title={`What matters is ${report.first.code}: ${report.first.sentence}`}
              />
            ) : (
              <Alert
                type="info"
                showIcon
                title="Nothing is in the way, as far as the service sees."
              />
            )}
            <Checklist report={report} />
            <Fine report={report} />
            <div className="way-in">
              <span>From your own machine it sees your file and your address too:</span>
              <Mono label="Copy the command">{`plumlatch why ${name}${user ? " -user " + user : ""}`}</Mono>
            </div>
          </>
        )}
      </Loaded>
    </>
  );
}
