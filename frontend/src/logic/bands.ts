export const BANDS = ["Strong", "Steady", "Fading", "Inactive", "Unproven", "Masked"] as const;
export const OFF_SCALE = 4;

/** Classes of each band: never colour alone, the two off the scale are hatched and dotted. */
export const BAND_CLASS = ["bg-strong", "bg-steady", "bg-fading", "bg-inactive", "hatch", "dots"];
export const BAND_FILL = [
  "var(--color-strong)",
  "var(--color-steady)",
  "var(--color-fading)",
  "var(--color-inactive)",
  "url(#hatch)",
  "url(#dots)",
];
export const BAND_MEANS = [
  "engages with most messages",
  "engages now and then",
  "engages less, or not recently",
  "stopped engaging, or never engaged",
  "too few messages to judge",
  "opens hidden by a proxy",
];

/** The thresholds of each band, for an inactivity window in days and the scores from which somebody is Strong and
 * Steady; the first that fits from Unproven on decides. */
export const bandRules = (window: number, strong: number, steady: number): string[] => [
  `score of ${strong} or more, engaged with at least 3 messages`,
  `score of ${steady} or more`,
  `score below ${steady}, or not engaged for ${window / 2} days`,
  `5 or more ignored in a row and not engaged for ${window} days, or never engaged`,
  `never engaged, with fewer than 5 ignored or less than ${window} days of messages`,
  `not engaged for ${window} days, while machines opened at least half (3 or more)`,
];

export const TRACE_WORDS: Record<string, string> = {
  c: "clicked",
  o: "opened",
  m: "machine open only",
  n: "ignored",
  b: "bounced",
};

/** "oonc" to "opened 2, ignored 1, clicked 1", newest last. */
export function traceInWords(trace: string): string {
  const counts = new Map<string, number>();
  for (const letter of trace) counts.set(letter, (counts.get(letter) ?? 0) + 1);
  if (!counts.size) return "nothing sent yet";
  return [...counts].map(([letter, n]) => `${TRACE_WORDS[letter]} ${n}`).join(", ");
}
