/** How a verdict on an address is coloured; the word always stands beside it. */
export const VERDICT_COLOUR: Record<string, string> = {
  good: "text-clover",
  risky: "text-wheat",
  bad: "text-poppy",
  unknown: "text-ink-2",
};
