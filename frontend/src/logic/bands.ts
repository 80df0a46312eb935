export const BANDS = ["Strong", "Steady", "Fading", "Silent", "Unproven", "Veiled"] as const;
export const OFF_SCALE = 4;

/** Classes of each band: never colour alone, the two off the scale are hatched and dotted. */
export const BAND_CLASS = ["bg-strong", "bg-steady", "bg-fading", "bg-silent", "hatch", "dots"];
export const BAND_FILL = [
  "var(--color-strong)",
  "var(--color-steady)",
  "var(--color-fading)",
  "var(--color-silent)",
  "url(#hatch)",
  "url(#dots)",
];
export const BAND_MEANS = [
  "answers most of what they get",
  "answers now and then",
  "answers less, or not of late",
  "has stopped, or never answered",
  "too little to judge yet",
  "read by a machine, cannot tell",
];

export const TRACE_WORDS: Record<string, string> = {
  c: "clicked",
  o: "opened",
  m: "machine only",
  n: "left unanswered",
  b: "bounced",
};

/** "oonc" to "opened 2, left unanswered 1, clicked 1", newest last. */
export function traceInWords(trace: string): string {
  const counts = new Map<string, number>();
  for (const letter of trace) counts.set(letter, (counts.get(letter) ?? 0) + 1);
  if (!counts.size) return "nothing sent yet";
  return [...counts].map(([letter, n]) => `${TRACE_WORDS[letter]} ${n}`).join(", ");
}
