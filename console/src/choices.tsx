// Choices that several lists are filtered by.
import { Select } from "antd";
import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { queries } from "./queries";

interface Props {
  value: string;
  set: (value: string | undefined) => void;
}

export function RegionChoice({ value, set }: Props) {
  const regions = useQuery(queries.regions());
  return (
    <Select
      allowClear
      placeholder="region"
      aria-label="region"
      value={value || undefined}
      onChange={(v?: string) => set(v)}
      options={regions.data?.items.map((r) => ({ value: r.name, label: r.title }))}
    />
  );
}

/** A recorded key: one in use, unless any will do. */
export function KeyChoice({
  value,
  set,
  not = [],
  any = false,
}: {
  value: string;
  set: (value: string) => void;
  not?: string[];
  any?: boolean;
}) {
  const [text, setText] = useState("");
  const keys = useQuery(queries.keysNamed(text));
  return (
    <Select
      allowClear
      showSearch={{ filterOption: false, onSearch: setText }}
      placeholder="key"
      aria-label="key"
      value={value || undefined}
      onChange={(v?: string) => set(v ?? "")}
      options={keys.data?.items
        .filter((k) => !not.includes(k.name) && (any || (k.state === "in use" && !k.retired)))
        .map((k) => ({
          value: k.name,
          label: k.holder ? `${k.name}, of ${k.holder}` : k.name,
        }))}
    />
  );
}

export function HolderChoice({ value, set }: Props) {
  const holders = useQuery(queries.holders());
  return (
    <Select
      allowClear
      placeholder="holder"
      aria-label="holder"
      value={value || undefined}
      onChange={(v?: string) => set(v)}
      options={holders.data?.items.map((h) => ({ value: h.name, label: h.name }))}
    />
  );
}
