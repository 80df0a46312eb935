/** The seven places, in the order of their digits on the keyboard. */
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
