/** Clauses as sentences with holes: what stands in a hole is picked, the rest is the rule's own words. */

export type Tree = { clause: string } & Record<string, unknown>;

export interface Hole {
  name: string;
  /** a number, one of some words, or a name of a kind the workspace knows */
  kind: "number" | "words" | "several" | "name" | "text" | "day";
  of?: readonly string[];
  names?: string;
  /** what goes before and after it; a hole that may stay empty takes these with it */
  before?: string;
  after?: string;
  optional?: boolean;
}

export interface Shape {
  clause: string;
  words: string;
  parts: (string | Hole)[];
  fresh: Tree;
}

const BANDS = ["Strong", "Steady", "Fading", "Silent", "Unproven", "Veiled"] as const;
const side: Hole = { name: "side", kind: "words", of: ["least", "most"], before: "at" };
const value: Hole = { name: "value", kind: "number" };
const days: Hole = { name: "days", kind: "number", before: "in", after: "days", optional: true };
const message: Hole = { name: "of", kind: "name", names: "message", before: "of", optional: true };
const ago: Hole[] = [
  { name: "side", kind: "words", of: ["more", "less"], after: "than" },
  { name: "days", kind: "number", after: "days ago" },
];
const named = (clause: string, words: string, before: string, names: string): Shape => ({
  clause,
  words,
  parts: [before, { name: "name", kind: "name", names }],
  fresh: { clause, name: "" },
});
const counted = (clause: string, words: string, more: (string | Hole)[], fresh: Record<string, unknown>): Shape => ({
  clause,
  words,
  parts: [clause, side, value, ...more],
  fresh: { clause, side: "least", ...fresh },
});

export const SHAPES: Shape[] = [
  counted("opened", "opened (people)", [message, days], { value: 1, days: 90 }),
  counted("opened by anyone", "opened, machines too", [message, days], { value: 1, days: 90 }),
  counted("clicked", "clicked", [message, days], { value: 1, days: 90 }),
  counted("got", "got", [message, days], { value: 1, days: 60 }),
  counted("replied", "replied", [days], { value: 1, days: 365 }),
  counted("booked", "booked", [days], { value: 1, days: 365 }),
  counted("booked worth", "booked worth", [days], { value: 50, days: 365 }),
  counted("unanswered", "unanswered in a row", [], { value: 5 }),
  counted("score", "score", [], { value: 40 }),
  counted("soft bounced", "soft bounced", ["in a row"], { value: 2 }),
  {
    clause: "no answer",
    words: "no answer",
    parts: ["no answer", { ...days, optional: false }],
    fresh: { clause: "no answer", days: 150 },
  },
  { clause: "never answered", words: "never answered", parts: ["never answered"], fresh: { clause: "never answered" } },
  {
    clause: "last answer",
    words: "last answer",
    parts: ["last answer", ...ago],
    fresh: { clause: "last answer", side: "more", days: 150 },
  },
  { clause: "joined", words: "joined", parts: ["joined", ...ago], fresh: { clause: "joined", side: "less", days: 21 } },
  {
    clause: "band",
    words: "band",
    parts: ["band is", { name: "bands", kind: "several", of: BANDS }],
    fresh: { clause: "band", bands: ["Strong", "Steady"] },
  },
  {
    clause: "address",
    words: "address verdict",
    parts: ["address is", { name: "verdicts", kind: "several", of: ["good", "risky", "bad", "unknown"] }],
    fresh: { clause: "address", verdicts: ["good"] },
  },
  named("permitted", "permitted for", "permitted for", "purpose"),
  {
    clause: "consent",
    words: "consent",
    parts: [
      "consent to",
      { name: "purpose", kind: "name", names: "purpose" },
      { name: "channel", kind: "words", of: ["email", "post", "phone"], before: "by" },
      { name: "state", kind: "words", of: ["given", "withdrawn", "awaiting", "none"], before: "is" },
    ],
    fresh: { clause: "consent", purpose: "", channel: "email", state: "given" },
  },
  {
    clause: "consent given",
    words: "consent, how old",
    parts: ["consent to", { name: "purpose", kind: "name", names: "purpose" }, "given", ...ago],
    fresh: { clause: "consent given", purpose: "", side: "more", days: 730 },
  },
  {
    clause: "consent from",
    words: "consent, by what source",
    parts: [
      "consent to",
      { name: "purpose", kind: "name", names: "purpose" },
      { name: "source", kind: "name", names: "source", before: "came from" },
    ],
    fresh: { clause: "consent from", purpose: "", source: "" },
  },
  named("in list", "in a list", "in list", "list"),
  named("has label", "has a label", "has label", "label"),
  named("in segment", "in a segment", "in segment", "segment"),
  {
    clause: "in frozen segment",
    words: "in a frozen copy",
    parts: [
      "in segment",
      { name: "name", kind: "name", names: "segment" },
      { name: "day", kind: "day", before: "as frozen on" },
    ],
    fresh: { clause: "in frozen segment", name: "", day: "" },
  },
  {
    clause: "left",
    words: "left unanswered",
    parts: ["left", { name: "message", kind: "name", names: "message" }, "unanswered"],
    fresh: { clause: "left", message: "" },
  },
  {
    clause: "field",
    words: "field",
    parts: ["field", { name: "name", kind: "name", names: "field" }, { name: "value", kind: "text", before: "is" }],
    fresh: { clause: "field", name: "", value: "" },
  },
  named("provider", "provider", "provider is", "provider"),
  named("came by", "came by a door", "came by", "door"),
  named("language", "language", "language is", "language"),
  named("country", "country", "country is", "country"),
  {
    clause: "inside sequence",
    words: "inside a sequence",
    parts: [
      "inside sequence",
      { name: "name", kind: "name", names: "sequence" },
      { name: "step", kind: "text", before: "at", optional: true },
    ],
    fresh: { clause: "inside sequence", name: "" },
  },
  named("finished sequence", "finished a sequence", "finished sequence", "sequence"),
  { clause: "rejoined", words: "rejoined", parts: ["rejoined"], fresh: { clause: "rejoined" } },
  {
    clause: "suppressed",
    words: "suppressed",
    parts: ["suppressed", { name: "reason", kind: "name", names: "reason", before: "for", optional: true }],
    fresh: { clause: "suppressed" },
  },
];

/** The shape of a clause; none for groups, which stay text, and for a finished sequence with a time. */
export function shapeOf(tree: Tree): Shape | undefined {
  if (tree.clause === "finished sequence" && tree.days !== undefined) return undefined;
  return SHAPES.find((s) => s.clause === tree.clause);
}

const quoted = (name: unknown) => `"${String(name ?? "").replaceAll('"', '""')}"`;

/** What stands in a hole, as the rule writes it; "" for an empty one that may be. */
export function filled(hole: Hole, tree: Tree): string {
  const v = tree[hole.name];
  if (hole.optional && (v === undefined || v === null || v === "")) return "";
  const inner =
    hole.kind === "name" || hole.kind === "text"
      ? quoted(v)
      : hole.kind === "several"
        ? (v as string[]).join(" or ")
        : String(v ?? "");
  return [hole.before, inner, hole.after].filter(Boolean).join(" ");
}

/** A clause as text. */
export function textOf(tree: Tree): string {
  if (tree.clause === "not") return `not (${textOf(tree.part as Tree)})`;
  const shape = shapeOf(tree);
  if (!shape) return "";
  return shape.parts
    .map((p) => (typeof p === "string" ? p : filled(p, tree)))
    .filter(Boolean)
    .join(" ");
}

/** A new clause of a shape, its names filled with the first the workspace knows. */
export function freshOf(shape: Shape, words: Record<string, string[]>): Tree {
  const out: Tree = { ...shape.fresh };
  for (const p of shape.parts)
    if (typeof p !== "string" && p.kind === "name" && !p.optional) out[p.name] = words[p.names ?? ""]?.[0] ?? "…";
  return out;
}

export interface Clause {
  text: string;
  tree: Tree;
}

const bracketed = (c: Clause) =>
  ["and", "or"].includes(c.tree.clause) ? `(${c.text.replace(/^\((.*)\)$/s, "$1")})` : c.text;

/** The rule of some clauses. */
export const joined = (clauses: Clause[], by: string): string => clauses.map(bracketed).join(` ${by || "and"} `);
