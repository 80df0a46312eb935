import { createContext, useContext, useEffect, useRef } from "react";
import type { M } from "../api/client";
import type { KeyAct } from "../logic/keys";

export const MeContext = createContext<M["Me"] | null>(null);

export function useMe(): M["Me"] {
  const me = useContext(MeContext);
  if (!me) throw new Error("outside of a signed-in page");
  return me;
}

/** The acts of the page at hand by key; the frame listens and lists them. */
export const pageKeys: { current: KeyAct[] } = { current: [] };

export function useKeys(acts: KeyAct[]) {
  const latest = useRef(acts);
  latest.current = acts;
  useEffect(() => {
    const mine = latest.current.map((a) => ({
      ...a,
      act: (e?: KeyboardEvent) => latest.current.find((l) => l.key === a.key)?.act(e),
    }));
    pageKeys.current = [...pageKeys.current, ...mine];
    return () => {
      pageKeys.current = pageKeys.current.filter((a) => !mine.includes(a));
    };
  }, []);
}

export interface Undo {
  words: string;
  /** null where nothing is left to take back */
  undo: (() => Promise<unknown>) | null;
}

/** Offer an undo in the foot line for 20 seconds. */
export function offerUndo(offer: Undo) {
  window.dispatchEvent(new CustomEvent("meadow-undo", { detail: offer }));
}
