import { useSyncExternalStore } from "react";

/** A value that parts of the frame share: read it anywhere, and be shown anew when it is set. */
export interface Shared<T> {
  get: () => T;
  set: (value: T) => void;
  subscribe: (heard: () => void) => () => void;
}

/** Begin a shared value. */
export function shared<T>(first: T): Shared<T> {
  let value = first;
  const listening = new Set<() => void>();
  return {
    get: () => value,
    set: (next) => {
      value = next;
      for (const heard of listening) heard();
    },
    subscribe: (heard) => {
      listening.add(heard);
      return () => void listening.delete(heard);
    },
  };
}

/** The value as it is now; the part is drawn anew when it changes. */
export const useShared = <T>(of: Shared<T>): T => useSyncExternalStore(of.subscribe, of.get);
