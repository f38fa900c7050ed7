// Puts something that needs a hand off until a day, with the reason.
import { Alert, App, DatePicker, Input, Modal, Space } from "antd";
import type { Dayjs } from "dayjs";
import { useState } from "react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, type Matter } from "./api";
import { changed } from "./queries";

export function PutOff({ matter, close }: { matter: Matter; close: () => void }) {
  const client = useQueryClient();
  const { message } = App.useApp();
  const [when, setWhen] = useState<Dayjs | null>(null);
  const [reason, setReason] = useState("");
  const put = useMutation({
    mutationFn: (m: Matter) =>
      api.putOff(m.id, when ? when.endOf("day").toISOString() : null, reason),
    onSuccess: async () => {
      void message.success("Put off");
      setReason("");
      setWhen(null);
      close();
      await changed.matter(client);
    },
  });
  return (
    <Modal
      open
      title="Put off"
      okText="Put off"
      onCancel={close}
      confirmLoading={put.isPending}
      okButtonProps={{ disabled: !when || reason.trim() === "" }}
      onOk={() => put.mutate(matter)}
    >
      <p>{matter.sentence}</p>
      <Space orientation="vertical" className="wide">
        <DatePicker
          placeholder="until the end of"
          aria-label="until the end of"
          value={when}
          onChange={(d: Dayjs | null) => setWhen(d)}
        />
        <Input
          placeholder="why it can wait"
          aria-label="why it can wait"
          value={reason}
          maxLength={200}
          onChange={(e) => setReason(e.target.value)}
        />
        {put.error && <Alert type="error" showIcon title={put.error.message} />}
      </Space>
    </Modal>
  );
}
