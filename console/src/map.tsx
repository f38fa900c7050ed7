// Keys against instances: which opens which, how that is known, and how old it is.
import { HolderChoice, RegionChoice } from "./choices";
import { Alert, Button, Select, Space, Table, type TableColumnsType } from "antd";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useQuery } from "@tanstack/react-query";
import type { AccessMap, MapCell } from "./api";
import { Bars } from "./bars";
import { Grid, wordsOfUse, type Grouping } from "./grid";
import { useParam } from "./param";
import { Loaded, Nothing, Title } from "./parts";
import { queries } from "./queries";

const ageNames = {
  days_1: "today",
  days_7: "this week",
  days_30: "30 days",
  days_90: "90 days",
  older: "older",
  none: "none",
} as const;

/** The keys of the greatest reach on a map. */
function reachOf(map?: AccessMap): { name: string; value: number; key?: string }[] {
  const opens = new Map<number, number>();
  for (const c of map?.cells ?? []) {
    opens.set(c.k, (opens.get(c.k) ?? 0) + 1);
  }
  return [...opens]
    .sort((a, b) => b[1] - a[1])
    .slice(0, 12)
    .map(([k, n]) => {
      const key = map?.keys[k];
      return { name: key?.name || "not recorded", value: n, key: key?.name };
    });
}

// The rows behind each bar, in the order of ageNames.
const ageRows = [
  "evidence_newer_than_days=1",
  "evidence_older_than_days=1&evidence_newer_than_days=7",
  "evidence_older_than_days=7&evidence_newer_than_days=30",
  "evidence_older_than_days=30&evidence_newer_than_days=90",
  "evidence_older_than_days=90",
  "evidence=none",
];

/** The columns of the table that says what the grid shows. */
function columnsOf(map: AccessMap): TableColumnsType<MapCell> {
  const key = (c: MapCell) => map.keys[c.k];
  const instance = (c: MapCell) => map.instances[c.i]?.name ?? "";
  const nameOf = (c: MapCell) => key(c)?.name || "not recorded";
  return [
    {
      title: "Key",
      sorter: (a, b) => nameOf(a).localeCompare(nameOf(b)),
      render: (_, c) =>
        key(c)?.name ? <Link to={"/keys/" + key(c)?.name}>{key(c)?.name}</Link> : "not recorded",
    },
    { title: "Holder", render: (_, c) => key(c)?.holder || "not known" },
    {
      title: "Instance",
      sorter: (a, b) => instance(a).localeCompare(instance(b)),
      render: (_, c) => <Link to={"/instances/" + instance(c)}>{instance(c)}</Link>,
    },
    { title: "Evidence", sorter: (a, b) => a.e.localeCompare(b.e), dataIndex: "e" },
    {
      title: "Days old",
      align: "right",
      sorter: (a, b) => a.age - b.age,
      render: (_, c) => (c.e === "none" ? "\u2013" : Math.floor(c.age)),
    },
    {
      title: "Used",
      sorter: (a, b) => (a.used ?? -2) - (b.used ?? -2),
      render: (_, c) => wordsOfUse(c),
    },
    { title: "The only way in", render: (_, c) => (c.sole ? "yes" : "") },
  ];
}

export function MapPage() {
  const [region, setRegion] = useParam("region");
  const [holder, setHolder] = useParam("holder");
  const [group, setGroup] = useParam("group");
  const [tag, setTag] = useState<string>();
  const navigate = useNavigate();
  const ages = useQuery(queries.ages());
  const query = useQuery(queries.map({ region, holder }));
  const tags = [...new Set(query.data?.instances.flatMap((i) => Object.keys(i.tags ?? {})) ?? [])];
  const reach = reachOf(query.data);
  return (
    <>
      <Title>Access map</Title>
      <Space className="filters">
        <Select
          placeholder="grouped by"
          aria-label="grouped by"
          value={group || "region"}
          onChange={(v: string) => setGroup(v)}
          options={["region", "holder", "tag"].map((v) => ({ value: v, label: "by " + v }))}
        />
        {group === "tag" && (
          <Select
            placeholder="tag"
            aria-label="tag"
            value={tag ?? tags[0]}
            onChange={(v: string) => setTag(v)}
            options={tags.map((v) => ({ value: v, label: v }))}
          />
        )}
        <RegionChoice value={region} set={setRegion} />
        <HolderChoice value={holder} set={setHolder} />
        {(region || holder) && (
          <Button
            onClick={() => {
              setRegion(undefined);
              setHolder(undefined);
            }}
          >
            Everything
          </Button>
        )}
      </Space>
      <Loaded query={query}>
        {(map) =>
          map.instances.length === 0 ? (
            <Nothing>No instance to show.</Nothing>
          ) : (
            <div className="map">
              <div>
                {map.cut && (
                  <Alert
                    type="info"
                    showIcon
                    title="There is more than fits: choose a region or a holder."
                  />
                )}
                <Grid map={map} grouping={(group || "region") as Grouping} tag={tag ?? tags[0]} />
                <details className="fine">
                  <summary>The same as a table: {map.cells.length} rows</summary>
                  <Table<MapCell>
                    size="small"
                    rowKey={(c) => c.k + " " + c.i}
                    columns={columnsOf(map)}
                    dataSource={map.cells}
                    pagination={{ pageSize: 50, showSizeChanger: false, hideOnSinglePage: true }}
                    scroll={{ x: "max-content" }}
                    showSorterTooltip={false}
                  />
                </details>
              </div>
              <aside>
                <h2>Instances opened per key</h2>
                <Bars
                  rows={reach}
                  label="instances opened per key"
                  click={(n) => {
                    const key = reach[n]?.key;
                    if (key) {
                      void navigate("/instances?key=" + key);
                    }
                  }}
                />
                <h2>Age of evidence</h2>
                {ages.data && (
                  <Bars
                    rows={Object.entries(ageNames).map(([k, name]) => ({
                      name,
                      value: ages.data[k as keyof typeof ageNames],
                    }))}
                    label="age of evidence"
                    click={(n) => void navigate("/access?" + (ageRows[n] ?? ""))}
                  />
                )}
              </aside>
            </div>
          )
        }
      </Loaded>
    </>
  );
}
