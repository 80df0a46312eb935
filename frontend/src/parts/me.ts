import { createContext, useContext } from "react";
import type { M } from "../api/client";

export const MeContext = createContext<M["Me"] | null>(null);

export function useMe(): M["Me"] {
  const me = useContext(MeContext);
  if (!me) throw new Error("outside of a signed-in page");
  return me;
}
