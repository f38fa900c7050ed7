// A bar chart of a few named numbers.
import { BarChart } from "echarts/charts";
import { GridComponent } from "echarts/components";
import { init, use as register } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";
import { useEffect, useRef } from "react";

register([BarChart, GridComponent, CanvasRenderer]);

const rowHeight = 22;

export function Bars({
  rows,
  label,
  click,
}: {
  rows: { name: string; value: number }[];
  label: string;
  click: (row: number) => void;
}) {
  const place = useRef<HTMLDivElement>(null);
  const clicked = useRef(click);
  useEffect(() => {
    clicked.current = click;
  });
  const data = JSON.stringify(rows);
  useEffect(() => {
    if (!place.current) {
      return;
    }
    const style = getComputedStyle(document.documentElement);
    const ink = style.getPropertyValue("--ink");
    const chart = init(place.current);
    const all = JSON.parse(data) as { name: string; value: number }[];
    chart.setOption({
      animation: false,
      grid: { left: 4, right: 44, top: 2, bottom: 2, containLabel: true },
      xAxis: { type: "value", show: false },
      yAxis: {
        type: "category",
        inverse: true,
        data: all.map((r) => r.name),
        axisTick: { show: false },
        axisLine: { show: false },
        axisLabel: { color: ink, width: 130, overflow: "truncate" },
      },
      series: [
        {
          type: "bar",
          data: all.map((r) => r.value),
          barWidth: 12,
          itemStyle: { color: style.getPropertyValue("--sea") },
          label: { show: true, position: "right", color: ink },
        },
      ],
    });
    chart.on("click", (e) => clicked.current(e.dataIndex));
    const resize = new ResizeObserver(() => chart.resize());
    resize.observe(place.current);
    return () => {
      resize.disconnect();
      chart.dispose();
    };
  }, [data]);
  return (
    <div
      ref={place}
      role="img"
      aria-label={label + ": " + rows.map((r) => `${r.name} ${r.value}`).join(", ")}
      style={{ height: rows.length * rowHeight + 8 }}
    />
  );
}
