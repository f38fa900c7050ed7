// Parts whose script is loaded when they are first needed, so that the first page needs a part
// of the script alone. Once that is shown the rest is loaded too: a service that goes away then
// takes no page with it.
import { Skeleton } from "antd";
import { type QueryClient, queryOptions, useQuery } from "@tanstack/react-query";
import type { ComponentType } from "react";
import { Failed } from "./parts";

const script = (name: string, load: () => Promise<ComponentType<never>>) =>
  queryOptions({
    queryKey: ["script", name],
    queryFn: async () => ({ Shown: await load() }),
    staleTime: Infinity,
    gcTime: Infinity,
    retry: false,
  });

const known: ReturnType<typeof script>[] = [];

/** Makes a component that loads another one. Its name is for the cache alone, and unique. Not early: only when somebody goes there. */
export function later<P extends object>(
  name: string,
  load: () => Promise<ComponentType<P>>,
  early = true,
) {
  const of = script(name, load as () => Promise<ComponentType<never>>);
  if (early) known.push(of);
  return function Later(props: P) {
    const part = useQuery(of);
    if (part.error) {
      return (
        <Failed
          error={new Error("The service does not answer: the script of this page is not here yet")}
          retry={() => void part.refetch()}
        />
      );
    }
    if (!part.data) {
      return <Skeleton active />;
    }
    const Shown = part.data.Shown as ComponentType<P>;
    return <Shown {...props} />;
  };
}

const afterTheFirst = 1000; // ms

/** Loads the other parts a moment after the first page, and returns what stops that. */
export function loadTheRest(client: QueryClient): () => void {
  const soon = setTimeout(() => {
    for (const of of known) {
      void client.prefetchQuery(of);
    }
  }, afterTheFirst);
  return () => clearTimeout(soon);
}
