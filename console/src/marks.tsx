// The two small pictures of Plum Latch: a key's bitting, and how an access is known.
import { Tooltip } from "antd";
import type { Access } from "./api";
import { ago } from "./text";

const cutWidth = 6;
const bladeStart = 22;

/** A key's sixteen cuts as the silhouette of a key. For telling keys apart, not for proving identity. */
export function Bitting({ cuts }: { cuts: number[] }) {
  const end = bladeStart + cuts.length * cutWidth;
  const bottom = cuts.map((depth, i) => {
    const x = bladeStart + i * cutWidth;
    const y = 19 - depth * 1.6;
    return `L${x + 1} ${y} L${x + cutWidth - 1} ${y}`;
  });
  const path = `M${bladeStart - 4} 4 L${end} 4 L${end + 6} 10 L${end} 14 ${bottom.reverse().map(backwards).join(" ")} L${bladeStart - 4} 19 Z`;
  return (
    <svg
      className="bitting"
      viewBox={`0 0 ${end + 8} 23`}
      width={end + 8}
      height={23}
      role="img"
      aria-label={"bitting " + cuts.join(" ")}
    >
      <path d={path} />
      <path d="M11 1.5 a10 10 0 1 0 0.01 0 Z M8 7.5 a4 4 0 1 1 -0.01 0 Z" fillRule="evenodd" />
    </svg>
  );
}

/** Turns "L a b L c d" round, for a path that runs from right to left. */
function backwards(segment: string): string {
  const [a, b] = segment.slice(1).split(" L");
  return `L${b} L${a}`;
}

const words: Record<Access["evidence"], string> = {
  none: "nothing known",
  placed: "placed: we wrote it",
  seen: "seen: read in the file that this server reads",
  accepted: "accepted: the server said that it would take the key",
  proven: "proven: a login with it succeeded",
};

const fills: Record<Access["evidence"], string> = {
  none: "",
  placed: "",
  seen: "M8 8 L8 2 A6 6 0 0 1 14 8 Z",
  accepted: "M8 2 A6 6 0 0 1 8 14 Z",
  proven: "M8 2 A6 6 0 1 1 7.99 2 Z",
};

const refusals: Record<string, string> = {
  accepted: "refused",
  proven: "a login failed",
  seen: "not in the file",
  placed: "withdrawn",
};

/** What of an access its mark shows. */
type Marked = Pick<Access, "evidence" | "old"> & { against?: { kind: string } };

export function Evidence(p: { access: Access } | { mark: Marked; id: string }) {
  const access: Marked = "access" in p ? p.access : p.mark;
  const id = `hatch-${"access" in p ? p.access.id : p.id}`;
  const told = words[access.evidence] + (access.old ? "; old: something changed since" : "");
  return (
    <Tooltip title={told}>
      <span className={access.old ? "evidence old" : "evidence"}>
        <svg viewBox="0 0 16 16" width={16} height={16} aria-hidden="true">
          <defs>
            <pattern
              id={id}
              width="3"
              height="3"
              patternUnits="userSpaceOnUse"
              patternTransform="rotate(45)"
            >
              <rect width="1.4" height="3" />
            </pattern>
          </defs>
          {access.evidence === "none" ? (
            <path d="M4 8h8" className="ring" />
          ) : (
            <circle cx="8" cy="8" r="6" className="ring" />
          )}
          <path
            d={fills[access.evidence] || (access.old ? fills.proven : "")}
            fill={access.old ? `url(#${id})` : "currentColor"}
          />
        </svg>
        {access.evidence}
        {access.old && " (old)"}
        {access.against && `, ${refusals[access.against.kind] ?? "contradicted"} since`}
      </span>
    </Tooltip>
  );
}

/** When and from where an access is known, and what the last probe said if that was no plain answer. */
export function Known({ access }: { access: Access }) {
  const { probe } = access;
  const plain = !probe || probe.answer === "accepted" || probe.answer === "refused";
  return (
    <>
      {access.at && ago(access.at)}
      {access.from && ` from ${access.from}`}
      {!plain && (
        <div className="attention">
          {probe.answer} {probe.detail}
        </div>
      )}
    </>
  );
}
