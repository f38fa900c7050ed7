// A time as people read it, once: how long ago or how long until, and exactly when pointed at.
import { Tooltip } from "antd";
import { distance } from "./text";

const exact = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "long" });

export function When({ at }: { at: string }) {
  return (
    <Tooltip title={exact.format(new Date(at))}>
      <time dateTime={at}>{distance(at)}</time>
    </Tooltip>
  );
}
