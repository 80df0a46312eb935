import { useEffect } from "react";
import { type Shared, shared, useShared } from "./shared";

export interface Undo {
  words: string;
  /** null where nothing is left to take back */
  undo: (() => Promise<unknown>) | null;
}

const STANDS = 20_000; // milliseconds
const offered: Shared<Undo | null> = shared<Undo | null>(null);

/** Offer an undo in the foot line for 20 seconds. */
export const offerUndo = (offer: Undo) => offered.set(offer);

/** What may be undone now, and how to take the offer away. */
export function useUndoOffer(): [Undo | null, () => void] {
  const offer = useShared(offered);
  useEffect(() => {
    if (!offer) return;
    const timer = window.setTimeout(() => offered.get() === offer && offered.set(null), STANDS);
    return () => clearTimeout(timer);
  }, [offer]);
  return [offer, () => offered.set(null)];
}
