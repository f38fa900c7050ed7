// Choices that several lists are filtered by.
import { Select } from "antd";
import { useQuery } from "@tanstack/react-query";
import { api } from "./api";

interface Props {
  value: string;
  set: (value: string | undefined) => void;
}

export function RegionChoice({ value, set }: Props) {
  const regions = useQuery({ queryKey: ["regions"], queryFn: api.regions, staleTime: 60_000 });
  return (
    <Select
      allowClear
      placeholder="region"
      value={value || undefined}
      onChange={(v?: string) => set(v)}
      options={regions.data?.items.map((r) => ({ value: r.name, label: r.title }))}
    />
  );
}

export function HolderChoice({ value, set }: Props) {
  const holders = useQuery({ queryKey: ["holders"], queryFn: api.holders, staleTime: 60_000 });
  return (
    <Select
      allowClear
      placeholder="holder"
      value={value || undefined}
      onChange={(v?: string) => set(v)}
      options={holders.data?.items.map((h) => ({ value: h.name, label: h.name }))}
    />
  );
}
