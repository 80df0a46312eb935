export interface Undo {
  words: string;
  /** null where nothing is left to take back */
  undo: (() => Promise<unknown>) | null;
}

/** Offer an undo in the foot line for 20 seconds. */
export function offerUndo(offer: Undo) {
  window.dispatchEvent(new CustomEvent("meadow-undo", { detail: offer }));
}
