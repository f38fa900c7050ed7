// What needs a hand, most urgent first.
import { Button, Checkbox, Select, Space, Tag } from "antd";
import { Fragment, useState } from "react";
import { Link } from "react-router";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, type ListQuery, type Matter } from "./api";
import { RegionChoice } from "./choices";
import { later } from "./later";
import { useParam } from "./param";
import { Loaded, Mono, Nothing, Title } from "./parts";
import { changed, queries } from "./queries";
import { useMayChange } from "./session";
import { ago, until } from "./text";
import { Welcome } from "./welcome";

// It brings a calendar, which is large.
const PutOff = later("put off", () => import("./putoff").then((m) => m.PutOff));

const urgencies = {
  now: "Now",
  soon: "Soon",
  later: "Later",
} as const;

/** The mark of an urgency: a shape and a word, never a colour alone. */
function Mark({ urgency }: { urgency: Matter["urgency"] }) {
  const d = { now: "M8 1 L15 14 L1 14 Z", soon: "M8 2 L14 8 L8 14 L2 8 Z", later: "M3 8 L13 8" };
  return (
    <svg
      className={"urgency " + urgency}
      viewBox="0 0 16 16"
      width={14}
      height={14}
      aria-hidden="true"
    >
      <path d={d[urgency]} />
    </svg>
  );
}

function Subject({ matter }: { matter: Matter }) {
  if (matter.instance) {
    return <Link to={"/instances/" + matter.instance}>{matter.instance}</Link>;
  }
  if (matter.key) {
    return <Link to={"/keys/" + matter.key}>{matter.key}</Link>;
  }
  return <>{matter.subject}</>;
}

function Row({ matter, putOff, all }: { matter: Matter; putOff: () => void; all: boolean }) {
  const client = useQueryClient();
  const mayChange = useMayChange();
  const takeUp = useMutation({
    mutationFn: () => api.putOff(matter.id, null, ""),
    onSuccess: () => changed.matter(client),
  });
  return (
    <li className="matter">
      <Mark urgency={matter.urgency} />
      <div>
        <div>
          {matter.sentence}{" "}
          {all && (
            <span className="quiet">
              <Subject matter={matter} />
            </span>
          )}
        </div>
        <div className="quiet">
          <Tag>{matter.reason}</Tag>
          {matter.evidence}; since {ago(matter.since)}
          {matter.costs && `; what mends it costs ${matter.costs}`}
          {matter.off_until &&
            `; put off until ${until(matter.off_until)} by ${matter.off_by ?? ""}: ${matter.off_reason ?? ""}`}
        </div>
      </div>
      <Mono label="Copy the command">{matter.command}</Mono>
      {matter.off_until ? (
        <Button size="small" disabled={!mayChange} onClick={() => takeUp.mutate()}>
          Take up
        </Button>
      ) : (
        <Button size="small" type="text" disabled={!mayChange} onClick={putOff}>
          Put off
        </Button>
      )}
    </li>
  );
}

function List({ load, all }: { load: ListQuery; all: boolean }) {
  const [limit, setLimit] = useState(50);
  const [chosen, setChosen] = useState<Matter | null>(null);
  const query = useQuery(queries.today({ ...load, limit }));
  return (
    <Loaded query={query}>
      {(t) => {
        if (t.items.length === 0) {
          return all ? (
            <Nothing>
              {load.off
                ? "Nothing is put off."
                : load.reason || load.urgency || load.region
                  ? "Nothing of that needs a hand."
                  : "Nothing needs a hand, as far as is known."}
            </Nothing>
          ) : null;
        }
        return (
          <>
            {Object.entries(urgencies).map(([u, title]) => {
              const rows = t.items.filter((m) => m.urgency === u);
              return (
                rows.length > 0 && (
                  <Fragment key={u}>
                    {all && <h2>{title}</h2>}
                    <ul className="matters">
                      {rows.map((m) => (
                        <Row key={m.id} matter={m} all={all} putOff={() => setChosen(m)} />
                      ))}
                    </ul>
                  </Fragment>
                )
              );
            })}
            {t.next_cursor && limit < 500 && (
              <Button onClick={() => setLimit(500)}>Show more</Button>
            )}
            {chosen && <PutOff matter={chosen} close={() => setChosen(null)} />}
          </>
        );
      }}
    </Loaded>
  );
}

/** What of one instance or of one key needs a hand. */
export function Matters({ of }: { of: { instance?: string; key?: string } }) {
  return (
    <div className="matters-of">
      <List load={of} all={false} />
    </div>
  );
}

export function TodayPage() {
  const [reason, setReason] = useParam("reason");
  const [region, setRegion] = useParam("region");
  const [urgency, setUrgency] = useParam("urgency");
  const [off, setOff] = useParam("off");
  const counted = useQuery(queries.today({ limit: 1 }));
  const counts = Object.entries(counted.data?.counts ?? {});
  return (
    <>
      <Title>Today</Title>
      <Welcome />
      {counts.length > 0 && (
        <p className="counts">
          {counts
            .sort((a, b) => b[1] - a[1])
            .map(([r, n]) => (
              <Tag.CheckableTag
                key={r}
                checked={reason === r}
                onChange={(on) => setReason(on ? r : undefined)}
              >
                {n} {r}
              </Tag.CheckableTag>
            ))}
        </p>
      )}
      <Space className="filters">
        <Select
          allowClear
          placeholder="how soon"
          aria-label="how soon"
          value={urgency || undefined}
          onChange={(v?: string) => setUrgency(v)}
          options={Object.entries(urgencies).map(([value, label]) => ({ value, label }))}
        />
        <RegionChoice value={region} set={setRegion} />
        <Checkbox
          checked={off === "true"}
          onChange={(e) => setOff(e.target.checked ? "true" : undefined)}
        >
          put off ({counted.data?.off ?? 0})
        </Checkbox>
      </Space>
      <List load={{ reason, region, urgency, off }} all />
    </>
  );
}
