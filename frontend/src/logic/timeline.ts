export interface Slot {
  key: string;
  label: string;
  due: number;
  people: number;
  state: string;
  resend: boolean;
  lead: boolean;
  handed: number;
  /** Whether it follows another batch and so cannot be moved by itself. */
  fixed?: boolean;
}

const QUARTER = 900;

/** A moment on the nearest quarter of an hour. */
export const snapped = (at: number) => Math.round(at / QUARTER) * QUARTER;

/** Where the arrow keys move a moment: half an hour, with Shift a day; null for other keys. */
export function byKey(key: string, shift: boolean, due: number): number | null {
  const step = shift ? 86400 : 1800;
  return key === "ArrowLeft" ? due - step : key === "ArrowRight" ? due + step : null;
}

/** The days a plan touches, each with its place on a line from the first midnight to the last. */
export function span(slots: Slot[], now: number): { begin: number; end: number; days: number[] } {
  const moments = [...slots.map((s) => s.due), now];
  const begin = Math.floor(Math.min(...moments) / 86400) * 86400;
  const end = Math.max(begin + 86400, (Math.floor(Math.max(...slots.map((s) => s.due), now) / 86400) + 1) * 86400);
  const days = Array.from({ length: Math.round((end - begin) / 86400) }, (_, i) => begin + i * 86400);
  return { begin, end, days };
}

export const atShare = (at: number, begin: number, end: number) => (at - begin) / (end - begin);

/** Left edges in pixels with at least `gap` between neighbours, as close to their moments as that allows. */
export function spread(lefts: number[], gap: number, most: number): number[] {
  const out = [...lefts];
  for (let i = 1; i < out.length; i++) out[i] = Math.max(out[i] ?? 0, (out[i - 1] ?? 0) + gap);
  let limit = most;
  for (let i = out.length - 1; i >= 0; i--) {
    out[i] = Math.min(out[i] ?? 0, limit);
    limit = (out[i] ?? 0) - gap;
  }
  return out;
}

/** The hours of a day [from, to) in which a plan does not mail; `weekday` 0 is Monday. */
export function closed(weekday: number, plan: { hours: number[]; weekdays: number[] }): [number, number][] {
  if (!plan.weekdays.includes(weekday)) return [[0, 24]];
  const [begin = 0, end = 24] = plan.hours;
  const out: [number, number][] = [
    [0, begin],
    [end, 24],
  ];
  return out.filter(([from, to]) => from < to);
}
