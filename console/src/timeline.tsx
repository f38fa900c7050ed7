// What happened to a key, or to the keys of an instance, on a time line: a bar
// for each stretch in which a key stood in a file, a mark for what was observed.
import { Collapse } from "antd";
import { useQuery } from "@tanstack/react-query";
import type { TimelineEvent } from "./api";
import { Loaded } from "./parts";
import { queries } from "./queries";
import { ago } from "./text";

const width = 880;
const left = 190;
const rowHeight = 24;
const maxRows = 40;

/** Rows of the picture: one for each key (of an instance) or instance (of a key). */
function rowsOf(events: TimelineEvent[], what: "keys" | "instances"): Map<string, TimelineEvent[]> {
  const rows = new Map<string, TimelineEvent[]>();
  for (const e of events) {
    const row = (what === "keys" ? e.instance : e.key) || "journal";
    rows.set(row, [...(rows.get(row) ?? []), e]);
  }
  return rows;
}

function Picture({
  events,
  what,
  now,
}: {
  events: TimelineEvent[];
  what: "keys" | "instances";
  now: number;
}) {
  const begin = Math.min(...events.map((e) => Date.parse(e.at)), now - 60_000);
  const x = (t: number) => left + ((t - begin) / (now - begin)) * (width - left - 20);
  const rows = [...rowsOf(events, what)].slice(0, maxRows);
  const height = rows.length * rowHeight + 30;
  return (
    <svg className="timeline" viewBox={`0 0 ${width} ${height}`} role="img" aria-label="time line">
      {rows.map(([name, all], n) => {
        const y = n * rowHeight + 14;
        return (
          <g key={name}>
            <text x={left - 8} y={y + 4} textAnchor="end">
              {name.length > 26 ? name.slice(0, 25) + "…" : name}
            </text>
            <line x1={left} x2={width - 20} y1={y} y2={y} className="track" />
            {all.map((e, i) => {
              const at = x(Date.parse(e.at));
              const title = <title>{`${e.what} (${e.from ?? ""}), ${ago(e.at)}`}</title>;
              if (e.sort === "stood") {
                const end = e.open ? x(now) : x(Date.parse(e.until ?? e.at));
                return (
                  <rect
                    key={i}
                    x={at}
                    y={y - 4}
                    width={Math.max(3, end - at)}
                    height={8}
                    className={e.open ? "stood" : "stood gone"}
                  >
                    {title}
                  </rect>
                );
              }
              return e.sort === "evidence" ? (
                <circle
                  key={i}
                  cx={at}
                  cy={y}
                  r={4}
                  className={/^(placed|seen|accepted|proven)/.test(e.what) ? "for" : "against"}
                >
                  {title}
                </circle>
              ) : (
                <path key={i} d={`M${at} ${y - 5} v10`} className="entry">
                  {title}
                </path>
              );
            })}
          </g>
        );
      })}
      <text x={left} y={height - 4}>
        {ago(new Date(begin).toISOString())}
      </text>
      <text x={width - 20} y={height - 4} textAnchor="end">
        now
      </text>
    </svg>
  );
}

export function Timeline({ what, name }: { what: "keys" | "instances"; name: string }) {
  const query = useQuery(queries.timeline(what, name));
  return (
    <Loaded query={query}>
      {(page) =>
        page.items.length === 0 ? (
          <p className="quiet">Nothing is known of it yet.</p>
        ) : (
          <>
            <Picture events={page.items} what={what} now={query.dataUpdatedAt} />
            <p className="quiet legend">
              <span className="box stood" /> stands in a file <span className="box gone" /> stood
              there <span className="dot for" /> shown to open it <span className="dot against" />{" "}
              refused or gone <span className="bar" /> written in the journal
            </p>
            <Collapse
              ghost
              items={[
                {
                  key: "rows",
                  label: `The same in words (${page.items.length})`,
                  children: (
                    <ul className="events">
                      {page.items.map((e, i) => (
                        <li key={i}>
                          <span className="quiet">{new Date(e.at).toLocaleString()}</span>{" "}
                          {what === "keys" ? e.instance : e.key} {e.what}
                          {e.until && !e.open && `, until ${new Date(e.until).toLocaleString()}`}
                          {e.from && <span className="quiet"> ({e.from})</span>}
                        </li>
                      ))}
                    </ul>
                  ),
                },
              ]}
            />
          </>
        )
      }
    </Loaded>
  );
}
