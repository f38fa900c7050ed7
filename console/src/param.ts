import { useSearchParams } from "react-router";

/** One search parameter of the page's address, and how to set it. */
export function useParam(name: string): [string, (value: string | undefined) => void] {
  const [params, setParams] = useSearchParams();
  return [
    params.get(name) ?? "",
    (value) =>
      setParams((old) => {
        const next = new URLSearchParams(old);
        if (value) {
          next.set(name, value);
        } else {
          next.delete(name);
        }
        return next;
      }),
  ];
}
