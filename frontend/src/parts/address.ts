import { useEffect, useRef, useState } from "react";
import { useSearchParams } from "react-router";

export interface Address {
  params: URLSearchParams;
  /** Writes one value, or takes it out when it is empty; a reload keeps it, and the way back is not lengthened. */
  set: (name: string, value: string) => void;
}

/** How a page is looked at, as it stands in the address. A change begins with what the address says by then and not with
 * what was last drawn: two changes that follow each other closely both count. */
export function useAddress(): Address {
  const [params, write] = useSearchParams();
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(window.location.search);
    if (value) next.set(name, value);
    else next.delete(name);
    write(next, { replace: true });
  };
  return { params, set };
}

/** A text of the address that is typed: at once in the field, in the address after ``ms`` without a key. A link or the way
 * back that changes the address changes the field; ``changed`` is called after each change of the address. */
export function useTyped({ params, set }: Address, name: string, ms: number, changed?: () => void) {
  const kept = params.get(name) ?? "";
  const [typed, type] = useState(kept);
  const written = useRef(kept);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what is typed starts the wait
  useEffect(() => {
    const text = typed.trim();
    if (text === written.current) return;
    const timer = setTimeout(() => {
      written.current = text;
      set(name, text);
      changed?.();
    }, ms);
    return () => clearTimeout(timer);
  }, [typed]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only a new address is followed
  useEffect(() => {
    const now = new URLSearchParams(window.location.search).get(name) ?? "";
    if (now === written.current) return;
    written.current = now;
    type(now);
    changed?.();
  }, [kept]);
  return [typed, type] as const;
}
