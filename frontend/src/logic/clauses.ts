/** Rules as trees: what each clause is made of, how it is written, and what a new one looks like. */

export type Tree = { clause: string } & Record<string, unknown>;
export interface Bound {
  side: string;
  value: number;
}
export interface Span {
  n: number;
  unit: string;
}
/** A name that exists, with how many subscribers it applies to (null where that is not counted). */
export interface Name {
  name: string;
  people: number | null;
}
export type Names = Record<string, Name[]>;

export const SIDES = ["at least", "at most", "more than", "fewer than"] as const;
export const UNITS = ["day", "week", "month", "year"] as const;
const BANDS = ["Strong", "Steady", "Fading", "Inactive", "Unproven", "Masked"] as const;
const ADDRESS = ["deliverable", "risky", "undeliverable", "unknown", "not checked"] as const;

/** A part of a clause that can be picked: its key in the tree and what it is. */
export interface Hole {
  key: string;
  kind: "bound" | "span" | "choice" | "several" | "name" | "text" | "number" | "day" | "texts";
  of?: readonly string[];
  /** the kind of names to pick from */
  names?: string;
  before?: string;
  after?: string;
  /** it may be left out; the words are what the control to add it says */
  optional?: string;
  fresh?: unknown;
}

export interface Shape {
  clause: string;
  /** as the list of conditions calls it */
  label: string;
  group: string;
  parts: (string | Hole)[];
}

const bound = (value: number): Hole => ({ key: "bound", kind: "bound", fresh: { side: "at least", value } });
const window = (n: number): Hole => ({
  key: "window",
  kind: "span",
  before: "in",
  optional: "in a period",
  fresh: { n, unit: "day" },
});
const of: Hole = { key: "of", kind: "name", names: "message", before: "of", optional: "of one message" };
const span = (n: number, before = "", after = "", unit = "day"): Hole => ({
  key: "span",
  kind: "span",
  before,
  after,
  fresh: { n, unit },
});
const ago = (fresh: string, n: number, unit = "day"): Hole[] => [
  { key: "side", kind: "choice", of: ["more", "less"], after: "than", fresh },
  span(n, "", "ago", unit),
];
const name = (names: string, key = "name"): Hole => ({ key, kind: "name", names });
const value: Hole = { key: "value", kind: "text", fresh: "" };
const counted = (clause: string, label: string, figure: number, n: number): Shape => ({
  clause,
  label,
  group: "Activity",
  parts: [clause, bound(figure), of, window(n)],
});
const plain = (clause: string, group: string): Shape => ({ clause, label: clause, group, parts: [clause] });
const named = (clause: string, label: string, group: string, names: string, text = clause): Shape => ({
  clause,
  label,
  group,
  parts: [text, name(names)],
});
const field = (clause: string, label: string, parts: (string | Hole)[]): Shape => ({
  clause,
  label,
  group: "Field",
  parts: ["field", name("field"), ...parts],
});

export const SHAPES: Shape[] = [
  counted("opened", "opened", 1, 90),
  counted("opened by anyone", "opened, machines included", 1, 90),
  counted("clicked", "clicked", 1, 90),
  counted("engaged", "engaged", 1, 90),
  counted("received", "received", 1, 60),
  counted("replied", "replied", 1, 365),
  counted("booked", "booked", 1, 365),
  counted("booked worth", "booked, by value", 50, 365),
  { clause: "ignored", label: "ignored in a row", group: "Activity", parts: ["ignored", bound(5), "in a row"] },
  {
    clause: "ignored message",
    label: "ignored a message",
    group: "Activity",
    parts: ["ignored", name("message", "message")],
  },
  plain("never engaged", "Engagement"),
  {
    clause: "not engaged",
    label: "not engaged in a period",
    group: "Engagement",
    parts: ["not engaged", span(150, "in")],
  },
  { clause: "last engaged", label: "last engaged", group: "Engagement", parts: ["last engaged", ...ago("more", 150)] },
  {
    clause: "engaged within",
    label: "engaged soon after joining",
    group: "Engagement",
    parts: ["engaged", span(30, "within", "of joining")],
  },
  {
    clause: "band",
    label: "band",
    group: "Engagement",
    parts: ["band is", { key: "bands", kind: "several", of: BANDS, fresh: ["Strong", "Steady"] }],
  },
  { clause: "score", label: "score", group: "Engagement", parts: ["score", bound(40)] },
  { clause: "likely active", label: "likely active", group: "Engagement", parts: ["likely active", bound(80), "%"] },
  { clause: "joined", label: "joined", group: "People", parts: ["joined", ...ago("less", 21)] },
  named("source", "source", "People", "source", "source is"),
  named("in list", "in a list", "People", "list"),
  named("has label", "has a label", "People", "label"),
  named("in segment", "in a segment", "People", "segment"),
  {
    clause: "in snapshot",
    label: "in a snapshot of a segment",
    group: "People",
    parts: ["in segment", name("segment"), { key: "day", kind: "day", before: "as frozen on", fresh: "" }],
  },
  named("provider", "mailbox provider", "People", "provider", "provider is"),
  named("language", "language", "People", "language", "language is"),
  named("country", "country", "People", "country", "country is"),
  named("permitted", "permitted for a purpose", "Consent", "purpose", "permitted for"),
  {
    clause: "consent",
    label: "consent",
    group: "Consent",
    parts: [
      "consent to",
      name("purpose", "purpose"),
      {
        key: "channel",
        kind: "choice",
        of: ["email", "post", "phone"],
        before: "by",
        optional: "by a channel",
        fresh: undefined,
      },
      { key: "state", kind: "choice", of: ["given", "withdrawn", "pending", "none"], before: "is", fresh: "given" },
    ],
  },
  {
    clause: "consent given",
    label: "consent, how old",
    group: "Consent",
    parts: ["consent to", name("purpose", "purpose"), "given", ...ago("more", 2, "year")],
  },
  {
    clause: "consent from",
    label: "consent, by source",
    group: "Consent",
    parts: ["consent to", name("purpose", "purpose"), { ...name("consent source", "source"), before: "from source" }],
  },
  plain("rejoined", "Consent"),
  {
    clause: "suppressed",
    label: "suppressed",
    group: "Delivery",
    parts: ["suppressed", { key: "reason", kind: "name", names: "reason", before: "for", optional: "for one reason" }],
  },
  {
    clause: "address",
    label: "address",
    group: "Delivery",
    parts: ["address is", { key: "states", kind: "several", of: ADDRESS, fresh: ["deliverable"] }],
  },
  { clause: "soft bounced", label: "soft bounced", group: "Delivery", parts: ["soft bounced", bound(2), "in a row"] },
  field("field is", "is", ["is", value]),
  field("field is not", "is not", ["is not", value]),
  field("field contains", "contains", ["contains", value]),
  field("field is empty", "is empty", ["is empty"]),
  field("field number", "is at least, at most …", [
    "is",
    { key: "bound", kind: "bound", fresh: { side: "at least", value: 1 } },
  ]),
  field("field day", "is before or after a day", [
    "is",
    { key: "side", kind: "choice", of: ["before", "after"], fresh: "after" },
    { key: "day", kind: "day", fresh: "2026-01-01" },
  ]),
  field("field is one of", "is one of", ["is one of", { key: "values", kind: "texts", fresh: [""] }]),
  field("field falls within", "falls within (yearly)", ["falls", span(7, "within")]),
  {
    clause: "in sequence",
    label: "active in a sequence",
    group: "Sequences",
    parts: [
      "in sequence",
      name("sequence"),
      { key: "step", kind: "text", before: "at", optional: "at one step", fresh: "…" },
    ],
  },
  {
    clause: "finished sequence",
    label: "finished a sequence",
    group: "Sequences",
    parts: [
      "finished sequence",
      name("sequence"),
      { key: "side", kind: "choice", of: ["more", "less"], after: "than", optional: "some time ago", fresh: "more" },
      { ...span(30, "", "ago"), optional: "" },
    ],
  },
];

export const isGroup = (t: Tree): boolean => t.clause === "and" || t.clause === "or";
export const partsOf = (t: Tree): Tree[] => (t.parts as Tree[] | undefined) ?? [];
export const shapeOf = (t: Tree): Shape | undefined => SHAPES.find((s) => s.clause === t.clause);

const quoted = (text: unknown) => `"${String(text ?? "").replaceAll('"', '""')}"`;
const missing = (v: unknown) => v === undefined || v === null;

/** A picked part as the rule writes it; "" for one that is left out. */
function written(hole: Hole, tree: Tree): string {
  const v = tree[hole.key];
  if (hole.optional !== undefined && missing(v)) return "";
  const words: Record<Hole["kind"], () => string> = {
    bound: () => `${(v as Bound).side} ${(v as Bound).value}`,
    span: () => `${(v as Span).n} ${(v as Span).unit}${(v as Span).n === 1 ? "" : "s"}`,
    several: () => (v as string[]).join(" or "),
    texts: () => `(${(v as string[]).map(quoted).join(", ")})`,
    name: () => quoted(v),
    text: () => quoted(v),
    choice: () => String(v),
    number: () => String(v),
    day: () => String(v),
  };
  return [hole.before, words[hole.kind](), hole.after].filter(Boolean).join(" ");
}

/** A tree as text, the way the server writes it back. */
export function textOf(t: Tree): string {
  if (t.clause === "not") return `not (${textOf(t.part as Tree)})`;
  if (isGroup(t))
    return partsOf(t)
      .map((p) => (isGroup(p) ? `(${textOf(p)})` : textOf(p)))
      .join(` ${t.clause} `);
  const shape = shapeOf(t);
  if (!shape) return "";
  return shape.parts
    .map((p) => (typeof p === "string" ? p : written(p, t)))
    .filter(Boolean)
    .join(" ")
    .replace(/ %$/, "%");
}

/** A new clause of a shape, its names the first that exist. */
export function freshOf(shape: Shape, names: Names): Tree {
  const out: Tree = { clause: shape.clause };
  for (const p of shape.parts) if (typeof p !== "string" && p.optional === undefined) out[p.key] = freshPart(p, names);
  for (const p of shape.parts) if (typeof p !== "string" && p.key === "window") out[p.key] = p.fresh;
  return out;
}

/** What a part begins with when it is added. */
export function freshPart(p: Hole, names: Names): unknown {
  return p.kind === "name" ? (names[p.names ?? ""]?.[0]?.name ?? "…") : (p.fresh ?? p.of?.[0]);
}

/** A group of some parts; a lone one is no group. */
export function grouped(by: string, parts: Tree[]): Tree | null {
  const flat = parts.flatMap((p) => (p.clause === by ? partsOf(p) : [p]));
  return flat.length > 1 ? { clause: by, parts: flat } : (flat[0] ?? null);
}

/** The same clause with another of its parts; what is left out takes what depends on it along. */
export function withPart(t: Tree, key: string, v: unknown): Tree {
  const next = { ...t, [key]: v };
  if (t.clause === "finished sequence" && key === "side")
    next.span = missing(v) ? undefined : (t.span ?? { n: 30, unit: "day" });
  return next;
}
