/** The map's arithmetic: rectangles of the fine grid, sums over them, and where a cut-off stands on the axis. */

/** First and last column and row of the fine grid, both included. */
export interface Rect {
  c0: number;
  c1: number;
  r0: number;
  r1: number;
}

export interface Shape {
  /** left edges of the fine columns in days; one column more stands for "never answered" */
  days: number[];
  /** messages left ignored, the last row and more */
  left: number[];
  /** left edges of what is drawn */
  dayEdges: number[];
  leftEdges: number[];
}

export interface Sparse {
  words: string[];
  /** flat cell, word, people; and so on */
  cells: number[];
}

export const inside = (cell: number, rows: number, r: Rect): boolean => {
  const column = Math.floor(cell / rows),
    row = cell % rows;
  return column >= r.c0 && column <= r.c1 && row >= r.r0 && row <= r.r1;
};

/** People by word within a rectangle, or everywhere. */
export function byWord(group: Sparse, rows: number, rect: Rect | null): number[] {
  const out = new Array<number>(group.words.length).fill(0);
  for (let i = 0; i < group.cells.length; i += 3) {
    const word = group.cells[i + 1] as number;
    if (!rect || inside(group.cells[i] as number, rows, rect))
      out[word] = (out[word] ?? 0) + (group.cells[i + 2] as number);
  }
  return out;
}

/** The sum of a replay's measure (flat cell, value; …), in a rectangle or everywhere. */
export function total(sums: number[], rows: number, rect: Rect | null): number {
  let out = 0;
  for (let i = 0; i < sums.length; i += 2)
    if (!rect || inside(sums[i] as number, rows, rect)) out += sums[i + 1] as number;
  return out;
}

/** Which drawn cell a fine cell belongs to. */
export function drawnOf(s: Shape, column: number, row: number): [number, number] {
  const day = s.days[column];
  const c = day === undefined ? s.dayEdges.length : s.dayEdges.findLastIndex((e) => e <= day);
  return [c, s.leftEdges.findLastIndex((e) => e <= (s.left[row] ?? 0))];
}

/** The fine rectangle of the drawn cells between two corners. */
export function rectOf(s: Shape, a: readonly [number, number], b: readonly [number, number]): Rect {
  const [cLow, cHigh] = [Math.min(a[0], b[0]), Math.max(a[0], b[0])];
  const [rLow, rHigh] = [Math.min(a[1], b[1]), Math.max(a[1], b[1])];
  const column = (drawn: number) =>
    drawn >= s.dayEdges.length ? s.days.length : s.days.indexOf(s.dayEdges[drawn] as number);
  const row = (drawn: number) =>
    drawn >= s.leftEdges.length ? s.left.length : s.left.indexOf(s.leftEdges[drawn] as number);
  return {
    c0: column(cLow),
    c1: cHigh >= s.dayEdges.length ? s.days.length : column(cHigh + 1) - 1,
    r0: row(rLow),
    r1: row(rHigh + 1) - 1,
  };
}

/** Everybody at or beyond a cut-off: a fine column and a fine row. */
export const beyond = (s: Shape, column: number, row: number): Rect => ({
  c0: column,
  c1: s.days.length,
  r0: row,
  r1: s.left.length - 1,
});

/** Whether a rectangle is everybody beyond a cut-off: then whoever is in it once gets nothing after it. */
export const isCutOff = (s: Shape, r: Rect): boolean => r.c1 === s.days.length && r.r1 === s.left.length - 1;

/** Where a fine edge stands on an axis of drawn cells, in cells; the last drawn one has no end to divide. */
function along(edges: number[], fine: number[], index: number): number {
  const value = fine[index];
  if (value === undefined) return edges.length;
  const at = edges.findLastIndex((e) => e <= value);
  const low = edges[at] as number,
    high = edges[at + 1];
  return high === undefined ? at : at + (value - low) / (high - low);
}

export const columnAt = (s: Shape, index: number) => along(s.dayEdges, s.days, index);
export const rowAt = (s: Shape, index: number) => along(s.leftEdges, s.left, index);

/** The index in 0..count whose place on the axis is nearest to ``position``. */
export function nearest(place: (index: number) => number, count: number, position: number): number {
  let best = 0;
  for (let i = 1; i < count; i++) if (Math.abs(place(i) - position) < Math.abs(place(best) - position)) best = i;
  return best;
}

export interface Figures {
  openRate: number;
  clickRate: number;
  complaints: number;
  hardBounces: number;
  unsubscribes: number;
  opens: number;
  bookings: number;
  worth: number;
  delivered: number;
}

export type Sums = Record<
  "messages" | "delivered" | "opens" | "clicks" | "bookings" | "worth" | "complaints" | "hard_bounces" | "unsubscribes",
  number[]
>;

/** The figures of all sends less those to a rectangle. Rates are shares of delivered, hard bounces of all. */
export function without(sums: Sums, rows: number, rect: Rect | null): Figures {
  const rest = (name: keyof Sums) => total(sums[name], rows, null) - (rect ? total(sums[name], rows, rect) : 0);
  const delivered = rest("delivered"),
    messages = rest("messages");
  const of = (n: number, base: number) => (base > 0 ? n / base : 0);
  return {
    openRate: of(rest("opens"), delivered),
    clickRate: of(rest("clicks"), delivered),
    complaints: of(rest("complaints"), delivered),
    hardBounces: of(rest("hard_bounces"), messages),
    unsubscribes: of(rest("unsubscribes"), delivered),
    opens: rest("opens"),
    bookings: rest("bookings"),
    worth: rest("worth"),
    delivered,
  };
}

export interface Bend {
  days: number;
  openRate: number;
  opensLost: number;
}

/** The replay over all cut-offs from 30 to 365 days, at one number of messages left ignored. */
export function bend(sums: Sums, s: Shape, row: number): Bend[] {
  const rows = s.left.length,
    all = total(sums.opens, rows, null);
  return s.days.flatMap((days, column) => {
    if (days < 30 || days > 365 || days % 5) return [];
    const left = without(sums, rows, beyond(s, column, row));
    return [{ days, openRate: left.openRate, opensLost: all ? 1 - left.opens / all : 0 }];
  });
}
