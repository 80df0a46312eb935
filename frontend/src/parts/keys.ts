import { useEffect, useLayoutEffect, useRef } from "react";
import { shared } from "./shared";

export interface KeyAct {
  key: string;
  words: string;
  act: (e?: KeyboardEvent) => void;
}

/** True while somebody types, so that no key acts. */
export function typing(target: EventTarget | null): boolean {
  if (!(target instanceof HTMLElement)) return false;
  return target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

/** True where a key is the focused control's own: Enter and Space press a button, follow a link, open what can be opened. */
export function pressing(e: KeyboardEvent): boolean {
  const own = "button, a[href], summary, [role=button], [role=tab], [role=option], [role=menuitem]";
  return (e.key === "Enter" || e.key === " ") && e.target instanceof Element && e.target.closest(own) !== null;
}

/** How a key is written in the list of keys. */
export const keyName = (key: string): string => ({ " ": "Space", Escape: "Esc" })[key] ?? key.replace("Arrow", "");

/** The acts of the page at hand by key; the frame listens and lists them. */
export const pageKeys = shared<KeyAct[]>([]);

/** Keys of the page or part at hand, for as long as it is shown. */
export function useKeys(acts: KeyAct[]) {
  const latest = useRef(acts);
  useLayoutEffect(() => {
    latest.current = acts;
  });
  const names = acts.map((a) => a.key).join("\n");
  // biome-ignore lint/correctness/useExhaustiveDependencies: registered anew when the keys change, not at every render
  useEffect(() => {
    const mine = latest.current.map((a) => ({
      ...a,
      act: (e?: KeyboardEvent) => latest.current.find((l) => l.key === a.key)?.act(e),
    }));
    pageKeys.set([...pageKeys.get(), ...mine]);
    return () => {
      pageKeys.set(pageKeys.get().filter((a) => !mine.includes(a)));
    };
  }, [names]);
}
