import { createContext, useContext } from "react";
import type { Operator } from "./api";

export interface Session {
  operator: Operator;
  signedOut: () => void;
}

export const SessionContext = createContext<Session | null>(null);

export function useSession(): Session {
  const s = useContext(SessionContext);
  if (!s) {
    throw new Error("used outside of a session");
  }
  return s;
}

/** Whether the operator may change keys and instances. */
export function useMayChange(): boolean {
  return useSession().operator.role !== "viewer";
}
