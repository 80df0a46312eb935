import type { Names } from "./clauses";

/** Conditions to start with, shown beside the field; a name in quotes comes from the workspace. */
export interface Starter {
  text: string;
  means: string;
}

export function starters(names: Names): Starter[] {
  const name = (kind: string) => `"${(names[kind]?.[0]?.name ?? "…").replaceAll('"', '""')}"`;
  return [
    { text: "opened at least 4 in 120 days", means: "by a person; a click counts too" },
    { text: "engaged at least 1 in 90 days", means: "opened, clicked, replied or booked" },
    { text: "clicked at least 1 in 90 days", means: "" },
    { text: "received at least 6 in 60 days", means: "delivered to them" },
    { text: "not engaged in 5 months", means: "includes people who never engaged" },
    { text: "last engaged more than 150 days ago", means: "only people who have engaged" },
    { text: "ignored at least 8 in a row", means: "since they last engaged" },
    { text: "band is Strong or Steady", means: "" },
    { text: "score at least 40", means: "" },
    { text: "joined less than 3 weeks ago", means: "" },
    { text: "engaged within 30 days of joining", means: "" },
    { text: `permitted for ${name("purpose")}`, means: "may be mailed now" },
    { text: `ignored ${name("message")}`, means: "received it, did not engage" },
    { text: `in list ${name("list")}`, means: "" },
    { text: `has label ${name("label")}`, means: "" },
    { text: `field ${name("field")} is "…"`, means: "or contains, is at least, is before …" },
    { text: `provider is ${name("provider")}`, means: "" },
    { text: "booked at least 1 in 400 days", means: "" },
    { text: `in segment ${name("segment")}`, means: "" },
    { text: "not (never engaged)", means: "everyone else" },
  ];
}

const NAMED: [RegExp, string][] = [
  [/in\s+list\s+"([^"]*)$/i, "list"],
  [/has\s+label\s+"([^"]*)$/i, "label"],
  [/(?:permitted\s+for|consent\s+to)\s+"([^"]*)$/i, "purpose"],
  [/(?:ignored|of)\s+"([^"]*)$/i, "message"],
  [/field\s+"([^"]*)$/i, "field"],
  [/provider\s+is\s+"([^"]*)$/i, "provider"],
  [/from\s+source\s+"([^"]*)$/i, "consent source"],
  [/source\s+is\s+"([^"]*)$/i, "source"],
  [/in\s+segment\s+"([^"]*)$/i, "segment"],
  [/sequence\s+"([^"]*)$/i, "sequence"],
  [/suppressed\s+for\s+"([^"]*)$/i, "reason"],
  [/language\s+is\s+"([^"]*)$/i, "language"],
  [/country\s+is\s+"([^"]*)$/i, "country"],
];

/** Names that would complete the quote the caret is in, with where it begins. */
export function completions(before: string, names: Names): { from: number; names: string[] } | null {
  for (const [shape, kind] of NAMED) {
    const m = shape.exec(before);
    if (m) {
      const typed = (m[1] ?? "").toLowerCase();
      const found = (names[kind] ?? [])
        .map((n) => n.name)
        .filter((n) => n.toLowerCase().includes(typed) && n.toLowerCase() !== typed)
        .sort((a, b) => Number(b.toLowerCase().startsWith(typed)) - Number(a.toLowerCase().startsWith(typed)))
        .slice(0, 8);
      return found.length ? { from: before.length - (m[1] ?? "").length, names: found } : null;
    }
  }
  return null;
}

/** Words of the language that fit next, by what is typed of them already. */
export function nextWords(
  before: string,
  fits: { place: number; fits: string[] },
): { from: number; names: string[] } | null {
  const typed = /[a-z]*$/i.exec(before)?.[0] ?? "";
  const from = before.length - typed.length;
  if (fits.place < before.slice(0, from).trimEnd().length) return null; // the mistake lies further back
  const single = fits.fits.flatMap((w) =>
    w === "a name in quotes" ? [w] : /^(the|a) /.test(w) ? [] : w.split(/, | or /),
  );
  const names = single.filter(
    (w) => w.toLowerCase().startsWith(typed.toLowerCase()) && w.toLowerCase() !== typed.toLowerCase(),
  );
  return names.length ? { from, names } : null;
}

/** Adds a condition to a rule, with "and" where the rule has something already. */
export function withClause(rule: string, clause: string): string {
  const bare = rule.trim();
  if (!bare) return clause;
  if (bare.endsWith("(")) return bare + clause;
  if (/\b(and|or|not)$/i.test(bare)) return `${bare} ${clause}`;
  return `${bare} and ${clause}`;
}
