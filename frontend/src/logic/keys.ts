/** Keys of the whole program: digits for places, and what the page at hand adds. */
export const PLACES = ["today", "subscribers", "segments", "senders", "campaigns", "sequences", "health"] as const;
export type Place = (typeof PLACES)[number];
export const PLACE_WORDS: Record<Place, string> = {
  today: "Today",
  subscribers: "Subscribers",
  segments: "Segments",
  senders: "Senders",
  campaigns: "Campaigns",
  sequences: "Sequences",
  health: "Health",
};

/** True while somebody types, so that no key acts. */
export function typing(target: EventTarget | null): boolean {
  if (!(target instanceof HTMLElement)) return false;
  return target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName);
}

export interface KeyAct {
  key: string;
  words: string;
  act: (e?: KeyboardEvent) => void;
}

/** How a key is written in the list of keys. */
export const keyName = (key: string): string => ({ " ": "Space", Escape: "Esc" })[key] ?? key.replace("Arrow", "");
