import type { Times } from "./times";

export interface Slot {
  key: string;
  label: string;
  due: number;
  people: number;
  state: string;
  resend: boolean;
  pilot: boolean;
  sent: number;
  /** Whether it follows another batch and so cannot be moved by itself. */
  fixed?: boolean;
}

const QUARTER = 900;

/** A moment on the nearest quarter of an hour. */
export const snapped = (at: number) => Math.round(at / QUARTER) * QUARTER;

/** Where the arrow keys move a moment: half an hour, with Shift a day; null for other keys. */
export function byKey(key: string, shift: boolean, due: number, { daysLater }: Times): number | null {
  const way = { ArrowLeft: -1, ArrowRight: 1 }[key];
  return way === undefined ? null : shift ? daysLater(due, way) : due + 1800 * way;
}

/** The days a plan touches, from the workspace's first midnight to its last; today is among them while anything waits. */
export function span(slots: Slot[], now: number, { atHour }: Times): { begin: number; end: number; days: number[] } {
  const over = slots.every((s) => s.state === "sent" || s.state === "stopped");
  const moments = [...slots.map((s) => s.due), ...(over ? [] : [now])];
  const days: number[] = [];
  let end = atHour(Math.min(...moments), 0);
  while (end <= Math.max(...moments)) {
    days.push(end);
    end = atHour(end, 24);
  }
  return { begin: days[0] ?? end, end, days };
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
