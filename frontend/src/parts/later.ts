import { useCallback, useEffect, useRef, useState } from "react";

interface Waiting<T> {
  values: T;
  keep: (values: T) => Promise<boolean>;
  timer: number;
}

/** Values kept on the server a moment after the last change, one write after another. What still waits is kept at once
 * by ``flush``, which says whether the last write went well, and when the page is left. ``busy`` from the change until it
 * is kept. */
export function useLater<T extends object>(keep: (values: T) => Promise<boolean>, ms: number) {
  const waiting = useRef<Waiting<T> | null>(null);
  const last = useRef<Promise<boolean>>(Promise.resolve(true));
  const [busy, setBusy] = useState(false);
  const flush = useCallback((): Promise<boolean> => {
    const all = waiting.current;
    waiting.current = null;
    if (all) {
      clearTimeout(all.timer);
      const mine = last.current.then(() => all.keep(all.values));
      last.current = mine;
      void mine.then(() => last.current === mine && !waiting.current && setBusy(false));
    }
    return last.current;
  }, []);
  const later = (values: T) => {
    setBusy(true);
    const before = waiting.current;
    clearTimeout(before?.timer);
    waiting.current = { values: { ...before?.values, ...values }, keep, timer: window.setTimeout(flush, ms) };
  };
  useEffect(
    () => () => {
      flush();
    },
    [flush],
  );
  return { later, flush, busy };
}
