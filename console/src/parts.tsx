// Small parts that every page uses.
import { CopyOutlined } from "@ant-design/icons";
import { Alert, App, Button, Empty, Skeleton, Space, Tooltip } from "antd";
import type { ReactNode } from "react";
import { Problem } from "./api";

/** Text in a monospaced face with a button that copies exactly what is shown. */
export function Mono({ children, label }: { children: string; label?: string }) {
  const { message } = App.useApp();
  const copy = () => {
    navigator.clipboard.writeText(children).then(
      () => void message.success("Copied"),
      () => void message.error("The browser does not allow copying here; select the text instead"),
    );
  };
  return (
    <span className="mono-line">
      <code>{children}</code>
      <Tooltip title={label ?? "Copy"}>
        <Button
          size="small"
          type="text"
          icon={<CopyOutlined />}
          onClick={copy}
          aria-label={label ?? "Copy"}
        />
      </Tooltip>
    </span>
  );
}

/** The states that everything loaded has: loading, failed, and there. */
export function Loaded<T>({
  query,
  children,
}: {
  query: { data: T | undefined; error: Error | null; isPending: boolean; refetch: () => unknown };
  children: (data: T) => ReactNode;
}) {
  if (query.data !== undefined) {
    return children(query.data);
  }
  if (query.error) {
    return <Failed error={query.error} retry={() => void query.refetch()} />;
  }
  return <Skeleton active paragraph={{ rows: 6 }} />;
}

export function Failed({ error, retry }: { error: Error; retry?: () => void }) {
  const missing = error instanceof Problem && error.status === 404;
  return (
    <Alert
      type={missing ? "warning" : "error"}
      showIcon
      title={missing ? "There is no such thing" : "This did not work"}
      description={error.message}
      action={retry && <Button onClick={retry}>Try again</Button>}
    />
  );
}

export function Nothing({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <Empty image={Empty.PRESENTED_IMAGE_SIMPLE} description={children}>
      {action}
    </Empty>
  );
}

export function Title({ children, actions }: { children: ReactNode; actions?: ReactNode }) {
  return (
    <div className="title">
      <h1>{children}</h1>
      <Space wrap>{actions}</Space>
    </div>
  );
}

/** What may be wider than its place, and is scrolled by the keyboard too, though nothing in it takes the focus. */
export function Scrolled({ label, children }: { label: string; children: ReactNode }) {
  return (
    <section className="scrolled" tabIndex={0} aria-label={label}>
      {children}
    </section>
  );
}
