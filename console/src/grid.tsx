// The grid of the access map, drawn on a canvas: a row for each key, a column for
// each instance. The wheel zooms, dragging moves, a click leads to the rows.
import { Button, Space } from "antd";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import type { AccessMap, MapCell } from "./api";

/** What the grid's lines are put together by. */
export type Grouping = "region" | "holder" | "tag";

const margin = { left: 150, top: 120 };
const height = 560;

interface Laid {
  columns: number[]; // place of each instance
  rows: number[]; // place of each key
  groups: { name: string; from: number; to: number }[];
  across: boolean; // groups are of columns, else of rows
}

/** The order of things by group, then by name: for each thing its place. */
function inOrder(things: { group: string; name: string }[]) {
  const order = things
    .map((t, n) => ({ ...t, n }))
    .sort((a, b) => a.group.localeCompare(b.group) || a.name.localeCompare(b.name));
  const place = new Array<number>(things.length).fill(0);
  const groups: Laid["groups"] = [];
  order.forEach((t, at) => {
    place[t.n] = at;
    const last = groups.at(-1);
    if (last?.name === t.group) {
      last.to = at + 1;
    } else {
      groups.push({ name: t.group, from: at, to: at + 1 });
    }
  });
  return { place, groups };
}

/** Puts instances and keys in their order, groups together. */
function lay(map: AccessMap, grouping: Grouping, tag?: string): Laid {
  const across = grouping !== "holder";
  const columns = inOrder(
    map.instances.map((i) => ({
      name: i.name,
      group: grouping === "region" ? i.region : across ? (i.tags?.[tag ?? ""] ?? "none") : "",
    })),
  );
  const rows = inOrder(
    map.keys.map((k) => ({
      name: k.name || last,
      group: across ? "" : k.name ? k.holder || "not known" : "not recorded",
    })),
  );
  return {
    columns: columns.place,
    rows: rows.place,
    groups: (across ? columns : rows).groups,
    across,
  };
}

// Sorts after every name.
const last = "\uffff";

const colours = ["plum", "brass", "sea", "ink", "quiet", "line", "sheet"] as const;
type Look = Record<(typeof colours)[number], string>;

const quarters: Record<string, number> = { seen: 0.25, accepted: 0.5, proven: 1 };

/** What must not be lost among the others. */
const standsOut = (c: MapCell) => !!c.sole || c.e === "unrecorded";

/** Fills the path that was begun with slanted lines: old evidence looks old. */
function hatch(g: CanvasRenderingContext2D, mx: number, my: number, r: number) {
  g.save();
  g.clip();
  g.lineWidth = 1;
  g.beginPath();
  for (let d = -2 * r; d <= 2 * r; d += 3) {
    g.moveTo(mx + d - r, my + r);
    g.lineTo(mx + d + r, my - r);
  }
  g.stroke();
  g.restore();
}

/** One cell: the mark that fills, or a block of colour where there is no room for it. */
function drawCell(
  g: CanvasRenderingContext2D,
  c: MapCell,
  x: number,
  y: number,
  w: number,
  h: number,
  look: Look,
) {
  const size = Math.min(w, h);
  const colour = c.e === "unrecorded" ? look.brass : c.e === "none" ? look.quiet : look.sea;
  const fade = c.age > 30 || (c.old && size < 9) ? 0.45 : 1;
  g.globalAlpha = fade;
  if (c.sole) {
    g.strokeStyle = look.plum;
    g.lineWidth = Math.max(1, size / 10);
    g.strokeRect(x + 0.5, y + 0.5, Math.max(1, w - 1), Math.max(1, h - 1));
  }
  if (size < 9) {
    g.fillStyle = c.sole ? look.plum : colour;
    const least = standsOut(c) ? 4 : 2; // what must be seen is seen from afar
    const gap = (side: number) => (side > 3 ? 1 : 0);
    g.fillRect(x, y, Math.max(least, w - gap(w)), Math.max(least, h - gap(h)));
    g.globalAlpha = 1;
    return;
  }
  const [mx, my, r] = [x + w / 2, y + h / 2, Math.min(size * 0.32, 9)];
  g.strokeStyle = g.fillStyle = colour;
  g.lineWidth = 1.5;
  g.beginPath();
  if (c.e === "unrecorded") {
    g.moveTo(mx, my - r);
    g.lineTo(mx + r, my);
    g.lineTo(mx, my + r);
    g.lineTo(mx - r, my);
    g.closePath();
    g.fill();
  } else if (c.e === "none") {
    g.moveTo(mx - r / 2, my);
    g.lineTo(mx + r / 2, my);
    g.stroke();
  } else {
    g.arc(mx, my, r, 0, 2 * Math.PI);
    g.stroke();
    const part = quarters[c.e] ?? 0;
    g.beginPath();
    g.moveTo(mx, my);
    g.arc(mx, my, r, -Math.PI / 2, -Math.PI / 2 + (c.old ? 1 : part) * 2 * Math.PI);
    if (c.old) {
      hatch(g, mx, my, r);
    } else if (part > 0) {
      g.fill();
    }
  }
  g.globalAlpha = 1;
}

const words: Record<MapCell["e"], string> = {
  none: "on record, never seen",
  placed: "placed",
  seen: "seen",
  accepted: "accepted",
  proven: "proven",
  unrecorded: "stands there, and nobody wrote it down",
};

/** When a key was last used, as the instance's own log says. */
export function wordsOfUse(c: MapCell): string {
  if (c.used == null) {
    return "not seen whether it is used";
  }
  if (c.used < 0) {
    return "its log has no use of it";
  }
  return c.used === 0 ? "used today" : `last used ${c.used} ${c.used === 1 ? "day" : "days"} ago`;
}

export function Grid({ map, grouping, tag }: { map: AccessMap; grouping: Grouping; tag?: string }) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [width, setWidth] = useState(800);
  const [view, setView] = useState<{ x: number; y: number; w: number; h: number } | null>(null);
  const [over, setOver] = useState<MapCell | null>(null);
  const drag = useRef<{ x: number; y: number; moved: boolean } | null>(null);
  const navigate = useNavigate();
  const laid = useMemo(() => lay(map, grouping, tag), [map, grouping, tag]);
  // The whole map at first, however many there are: each way has a size of its own.
  const fit = (room: number, n: number) => Math.min(34, Math.max(0.2, (room - 8) / n));
  const v = view ?? {
    x: 0,
    y: 0,
    w: fit(width - margin.left, map.instances.length),
    h: fit(height - margin.top, map.keys.length),
  };
  const byPlace = useMemo(() => {
    const all = new Map<string, MapCell>();
    for (const c of map.cells) {
      all.set(`${laid.rows[c.k]} ${laid.columns[c.i]}`, c);
    }
    return all;
  }, [map, laid]);

  useEffect(() => {
    const element = canvas.current;
    if (!element?.parentElement) {
      return;
    }
    const resize = new ResizeObserver(() => setWidth(element.parentElement?.clientWidth ?? 800));
    resize.observe(element.parentElement);
    return () => resize.disconnect();
  }, []);

  useEffect(() => {
    const element = canvas.current;
    const g = element?.getContext("2d");
    if (!element || !g) {
      return;
    }
    const ratio = window.devicePixelRatio || 1;
    element.width = width * ratio;
    element.height = height * ratio;
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    const style = getComputedStyle(document.documentElement);
    const look = Object.fromEntries(
      colours.map((n) => [n, style.getPropertyValue("--" + n)]),
    ) as Look;
    g.fillStyle = look.sheet;
    g.fillRect(0, 0, width, height);
    const xOf = (place: number) => margin.left + (place - v.x) * v.w;
    const yOf = (place: number) => margin.top + (place - v.y) * v.h;
    const groupAt = laid.across ? xOf : yOf;
    g.save();
    g.beginPath();
    g.rect(margin.left, margin.top, width - margin.left, height - margin.top);
    g.clip();
    g.strokeStyle = look.line;
    g.lineWidth = 1;
    for (const group of laid.groups) {
      g.beginPath();
      const p = Math.round(groupAt(group.to));
      g.moveTo(laid.across ? p + 0.5 : margin.left, laid.across ? margin.top : p + 0.5);
      g.lineTo(laid.across ? p + 0.5 : width, laid.across ? height : p + 0.5);
      g.stroke();
    }
    const ordered = [
      ...map.cells.filter((c) => !standsOut(c)),
      ...map.cells.filter((c) => standsOut(c)), // on top
    ];
    for (const c of ordered) {
      const x = xOf(laid.columns[c.i] ?? 0);
      const y = yOf(laid.rows[c.k] ?? 0);
      if (x > margin.left - v.w && x < width && y > margin.top - v.h && y < height) {
        drawCell(g, c, x, y, v.w, v.h, look);
      }
    }
    g.restore();
    g.fillStyle = look.ink;
    g.font = "12px system-ui, sans-serif";
    g.textBaseline = "middle";
    if (v.h >= 11) {
      g.textAlign = "right";
      map.keys.forEach((k, n) => {
        const y = yOf(laid.rows[n] ?? 0) + v.h / 2;
        if (y > margin.top && y < height) {
          const name = k.name || k.fingerprint.slice(7, 19) + "…";
          g.fillStyle = k.name ? look.ink : look.brass;
          g.fillText(name.length > 22 ? name.slice(0, 21) + "…" : name, margin.left - 8, y);
        }
      });
    }
    if (v.w >= 11) {
      g.fillStyle = look.ink;
      g.textAlign = "left";
      map.instances.forEach((i, n) => {
        const x = xOf(laid.columns[n] ?? 0) + v.w / 2;
        if (x > margin.left && x < width) {
          g.save();
          g.translate(x, margin.top - 8);
          g.rotate(-Math.PI / 3);
          g.fillText(i.name.length > 18 ? i.name.slice(0, 17) + "…" : i.name, 0, 0);
          g.restore();
        }
      });
    }
    g.fillStyle = look.quiet;
    g.textAlign = "left";
    let free = -Infinity;
    for (const group of laid.groups) {
      const from = laid.across ? margin.left : margin.top;
      const p = Math.max(from, groupAt(group.from));
      if (p < free || p > (laid.across ? width : height)) {
        continue;
      }
      free = p + (laid.across ? g.measureText(group.name).width + 10 : 14);
      if (laid.across) {
        g.fillText(group.name, p + 2, v.w >= 11 ? 10 : margin.top - 12);
      } else if (v.h >= 11) {
        g.fillText(group.name.slice(0, 8), 2, p + v.h / 2);
      } else {
        g.fillText(group.name.slice(0, 20), 2, p + 6);
      }
    }
  }, [map, laid, v.x, v.y, v.w, v.h, width]);

  const cellAt = (e: { clientX: number; clientY: number }): MapCell | null => {
    const box = canvas.current?.getBoundingClientRect();
    if (!box) {
      return null;
    }
    const x = e.clientX - box.left - margin.left;
    const y = e.clientY - box.top - margin.top;
    if (x < 0 || y < 0) {
      return null;
    }
    return byPlace.get(`${Math.floor(y / v.h + v.y)} ${Math.floor(x / v.w + v.x)}`) ?? null;
  };
  const zoom = (by: number, px = (width - margin.left) / 2, py = (height - margin.top) / 2) => {
    const [w, h] = [v.w, v.h].map((size) => Math.min(40, Math.max(0.2, size * by))) as [
      number,
      number,
    ];
    setView({
      w,
      h,
      x: Math.max(0, v.x + px / v.w - px / w),
      y: Math.max(0, v.y + py / v.h - py / h),
    });
  };
  // The wheel must be listened to by hand: React's own listener cannot keep the page from scrolling.
  const zoomer = useRef(zoom);
  useEffect(() => {
    zoomer.current = zoom;
  });
  useEffect(() => {
    const element = canvas.current;
    const wheel = (e: WheelEvent) => {
      e.preventDefault();
      const box = element?.getBoundingClientRect();
      zoomer.current(
        e.deltaY < 0 ? 1.2 : 1 / 1.2,
        Math.max(0, e.clientX - (box?.left ?? 0) - margin.left),
        Math.max(0, e.clientY - (box?.top ?? 0) - margin.top),
      );
    };
    element?.addEventListener("wheel", wheel, { passive: false });
    return () => element?.removeEventListener("wheel", wheel);
  }, []);
  const key = over && map.keys[over.k];
  const instance = over && map.instances[over.i];
  return (
    <>
      <canvas
        ref={canvas}
        className="grid"
        role="img"
        aria-label={`${map.keys.length} keys against ${map.instances.length} instances`}
        style={{ width, height, cursor: over ? "pointer" : "grab" }}
        onMouseDown={(e) => (drag.current = { x: e.clientX, y: e.clientY, moved: false })}
        onMouseUp={(e) => {
          const moved = drag.current?.moved;
          drag.current = null;
          const c = moved ? null : cellAt(e);
          const to = c && map.instances[c.i];
          if (to) {
            void navigate("/instances/" + to.name);
          }
        }}
        onMouseLeave={() => {
          drag.current = null;
          setOver(null);
        }}
        onMouseMove={(e) => {
          const d = drag.current;
          if (d && (d.moved || Math.hypot(e.clientX - d.x, e.clientY - d.y) > 4)) {
            setView({
              ...v,
              x: Math.max(0, v.x - (e.clientX - d.x) / v.w),
              y: Math.max(0, v.y - (e.clientY - d.y) / v.h),
            });
            drag.current = { x: e.clientX, y: e.clientY, moved: true };
            return;
          }
          setOver(cellAt(e));
        }}
      />
      <p className="map-line">
        {over && key && instance ? (
          <>
            <strong>{key.name || key.fingerprint}</strong> {key.holder && `of ${key.holder} `}on{" "}
            <strong>{instance.name}</strong> ({instance.region}): {words[over.e]}
            {over.old && ", old"}
            {over.age >= 0 && `, ${over.age === 0 ? "today" : `${over.age} days ago`}`}
            {`; ${wordsOfUse(over)}`}
            {over.sole && "; the only way in for people"}
          </>
        ) : (
          <span className="quiet">
            ○ placed ◔ seen ◑ accepted ● proven; hatched: old; pale: older than 30 days; framed: the
            only way in; ◆ nobody wrote it down
          </span>
        )}
      </p>
      <Space>
        <Button size="small" onClick={() => zoom(1.5)}>
          Closer
        </Button>
        <Button size="small" onClick={() => zoom(1 / 1.5)}>
          Farther
        </Button>
        <Button size="small" onClick={() => setView(null)}>
          All
        </Button>
      </Space>
    </>
  );
}
