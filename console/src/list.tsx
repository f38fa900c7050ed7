// A list that the server filters, sorts and pages; what is chosen stands in the address bar.
import { Button, Space, Table, type TableColumnsType } from "antd";
import type { SortOrder } from "antd/es/table/interface";
import type { ReactNode } from "react";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { useQuery, type UseQueryOptions } from "@tanstack/react-query";
import type { ListQuery, Page } from "./api";
import { Loaded } from "./parts";

export const pageSize = 50;

interface Props<T> {
  list: (q: ListQuery) => UseQueryOptions<Page<T>, Error, Page<T>, (string | ListQuery)[]>;
  columns: TableColumnsType<T>;
  rowKey: keyof T & string;
  filters: string[]; // the search parameters that choose rows
  empty: ReactNode; // shown when there is nothing at all
  refresh?: (rows: T[]) => number | false; // ms until the list is read again
}

export function ServerTable<T extends object>(p: Props<T>) {
  const [params, setParams] = useSearchParams();
  const [cursors, setCursors] = useState<string[]>([]);
  const chosen: ListQuery = { limit: pageSize, cursor: cursors.at(-1) };
  for (const f of [...p.filters, "sort", "order"]) {
    chosen[f] = params.get(f) ?? undefined;
  }
  const query = useQuery({
    ...p.list(chosen),
    refetchInterval: (q) => (q.state.data && p.refresh ? p.refresh(q.state.data.items) : false),
  });
  const filtered = p.filters.some((f) => params.get(f));
  const columns = p.columns.map((c) => {
    const sort = "key" in c ? String(c.key) : "";
    const active = c.sorter && (params.get("sort") ?? "name") === sort;
    const order: SortOrder = params.get("order") === "desc" ? "descend" : "ascend";
    return { ...c, sortOrder: active ? order : null };
  });
  return (
    <Loaded query={query}>
      {(data) =>
        data.items.length === 0 && !filtered && cursors.length === 0 ? (
          p.empty
        ) : (
          <>
            <Table<T>
              size="small"
              rowKey={p.rowKey}
              columns={columns}
              dataSource={data.items}
              pagination={false}
              loading={query.isFetching && query.isPlaceholderData}
              locale={{ emptyText: "Nothing matches." }}
              showSorterTooltip={false}
              scroll={{ x: "max-content" }}
              onChange={(_, __, sorter) => {
                const s = Array.isArray(sorter) ? sorter[0] : sorter;
                setCursors([]);
                setParams((old) => {
                  const next = new URLSearchParams(old);
                  next.delete("sort");
                  next.delete("order");
                  if (s?.order && s.columnKey) {
                    next.set("sort", String(s.columnKey));
                    if (s.order === "descend") {
                      next.set("order", "desc");
                    }
                  }
                  return next;
                });
              }}
            />
            {(cursors.length > 0 || data.next_cursor) && (
              <Space className="pages">
                <Button
                  disabled={cursors.length === 0}
                  onClick={() => setCursors(cursors.slice(0, -1))}
                >
                  Back
                </Button>
                <span>page {cursors.length + 1}</span>
                <Button
                  disabled={!data.next_cursor}
                  onClick={() => setCursors([...cursors, data.next_cursor ?? ""])}
                >
                  Further
                </Button>
              </Space>
            )}
          </>
        )
      }
    </Loaded>
  );
}
