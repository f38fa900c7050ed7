// A time as people read it, once: how long ago or how long until, and exactly when pointed at.
import { Tooltip } from "antd";
import { ago, until } from "./text";

const exact = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "long" });

export function When({ at }: { at: string }) {
  const time = new Date(at);
  return (
    <Tooltip title={exact.format(time)}>
      <time dateTime={at}>
        {time.getTime() > Date.now() ? until(at) : ago(at)}
      </time>
    </Tooltip>
  );
}
