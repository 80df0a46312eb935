/** Clauses to begin with, shown beside the field; a name in quotes comes from the workspace. */
export interface Starter {
  text: string;
  means: string;
}

export function starters(words: Record<string, string[]>): Starter[] {
  const name = (kind: string) => `"${(words[kind]?.[0] ?? "…").replaceAll('"', '""')}"`;
  return [
    { text: "opened at least 4 in 120 days", means: "by a person, or clicked" },
    { text: "clicked at least 1 in 90 days", means: "" },
    { text: "got at least 6 in 60 days", means: "delivered" },
    { text: "no answer in 150 days", means: "never answered is among them" },
    { text: "last answer more than 150 days ago", means: "only who has answered" },
    { text: "unanswered at least 8", means: "in a row, since the last answer" },
    { text: "band is Strong or Steady", means: "" },
    { text: "score at least 40", means: "" },
    { text: "joined less than 21 days ago", means: "" },
    { text: `permitted for ${name("purpose")}`, means: "the gate's answer, now" },
    { text: `left ${name("message")} unanswered`, means: "got it, did not answer" },
    { text: `in list ${name("list")}`, means: "" },
    { text: `has label ${name("label")}`, means: "" },
    { text: `field ${name("field")} is "…"`, means: "" },
    { text: `provider is ${name("provider")}`, means: "" },
    { text: "booked at least 1 in 400 days", means: "" },
    { text: `in segment ${name("segment")}`, means: "" },
    { text: "not (never answered)", means: "turns a clause round" },
  ];
}

const NAMED: [RegExp, string][] = [
  [/in\s+list\s+"([^"]*)$/i, "list"],
  [/has\s+label\s+"([^"]*)$/i, "label"],
  [/(?:permitted\s+for|consent\s+to)\s+"([^"]*)$/i, "purpose"],
  [/(?:left|of)\s+"([^"]*)$/i, "message"],
  [/field\s+"([^"]*)$/i, "field"],
  [/provider\s+is\s+"([^"]*)$/i, "provider"],
  [/came\s+by\s+"([^"]*)$/i, "door"],
  [/in\s+segment\s+"([^"]*)$/i, "segment"],
  [/sequence\s+"([^"]*)$/i, "sequence"],
  [/suppressed\s+for\s+"([^"]*)$/i, "reason"],
  [/came\s+from\s+"([^"]*)$/i, "source"],
  [/language\s+is\s+"([^"]*)$/i, "language"],
  [/country\s+is\s+"([^"]*)$/i, "country"],
];

/** Names that would complete the quote the caret stands in. */
export function completions(before: string, words: Record<string, string[]>): { from: number; names: string[] } | null {
  for (const [shape, kind] of NAMED) {
    const m = shape.exec(before);
    if (m) {
      const typed = (m[1] ?? "").toLowerCase();
      const names = (words[kind] ?? [])
        .filter((n) => n.toLowerCase().includes(typed) && n.toLowerCase() !== typed)
        .sort((a, b) => Number(b.toLowerCase().startsWith(typed)) - Number(a.toLowerCase().startsWith(typed)))
        .slice(0, 8);
      return names.length ? { from: before.length - (m[1] ?? "").length, names } : null;
    }
  }
  return null;
}

/** Words of the grammar that fit next, by what is typed of them already. */
export function nextWords(
  before: string,
  fits: { place: number; fits: string[] },
): { from: number; names: string[] } | null {
  const typed = /[a-z]*$/i.exec(before)?.[0] ?? "";
  const from = before.length - typed.length;
  if (fits.place < from) return null; // the mistake lies further back
  const single = fits.fits.flatMap((w) =>
    w === "a name in quotes" ? [w] : /^(the|a) /.test(w) ? [] : w.split(/, | or /),
  );
  const names = single.filter(
    (w) => w.toLowerCase().startsWith(typed.toLowerCase()) && w.toLowerCase() !== typed.toLowerCase(),
  );
  return names.length ? { from, names } : null;
}

/** Adds a clause to a rule, with "and" where the rule has something already. */
export function withClause(rule: string, clause: string): string {
  const bare = rule.trim();
  if (!bare) return clause;
  if (bare.endsWith("(")) return bare + clause;
  if (/\b(and|or|not)$/i.test(bare)) return `${bare} ${clause}`;
  return `${bare} and ${clause}`;
}
