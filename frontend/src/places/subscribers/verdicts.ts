/** How a verdict on an address is coloured; the word always stands beside it. */
export const VERDICT_COLOUR: Record<string, string> = {
  deliverable: "text-clover",
  risky: "text-wheat",
  undeliverable: "text-poppy",
  unknown: "text-ink-2",
};
