let zone = "UTC";
export function setZone(name: string) {
  zone = name;
}

const number = new Intl.NumberFormat("en-GB");
/** The zone that all times on the screen are in, for pages that plan or report. */
export const zoneName = () => zone;

export const count = (n: number) => number.format(n).replace("-", "−");

export function share(k: number, n: number, digits = 1): string {
  return n ? `${((100 * k) / n).toFixed(digits)}%` : "–";
}

export function points(x: number): string {
  return `${x >= 0 ? "+" : "−"}${Math.abs(100 * x).toFixed(1)} pts`;
}

const formats = new Map<string, Intl.DateTimeFormat>();

/** Made once for each zone and writing: making one costs more than using it a hundred times. */
function format(locale: string, options: Intl.DateTimeFormatOptions): Intl.DateTimeFormat {
  const key = `${zone} ${locale} ${JSON.stringify(options)}`;
  const known = formats.get(key) ?? new Intl.DateTimeFormat(locale, { timeZone: zone, ...options });
  formats.set(key, known);
  return known;
}

function part(at: number, options: Intl.DateTimeFormatOptions): string {
  return format("en-GB", options)
    .format(at * 1000)
    .replace("Sept", "Sep");
}

export const clockTime = (at: number) => part(at, { hour: "2-digit", minute: "2-digit", hour12: false });
export const weekday = (at: number) => part(at, { weekday: "short", day: "numeric", month: "short" }).replace(",", "");
/** 0 is Monday. */
export const weekdayNumber = (at: number) =>
  ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"].indexOf(part(at, { weekday: "short" }));
export const moment = (at: number) => `${weekday(at)}, ${clockTime(at)}`;
export const day = (at: number) => part(at, { day: "numeric", month: "short", year: "numeric" });
export const month = (at: number) => part(at, { month: "short" });
export const when = (at: number, now: number) =>
  Math.abs(now - at) > 300 * 86400 ? `${day(at)}, ${clockTime(at)}` : moment(at);

export function duration(seconds: number): string {
  const s = Math.round(seconds);
  const units: [number, string][] = [
    [86400, "day"],
    [3600, "hour"],
    [60, "minute"],
    [1, "second"],
  ];
  for (const [size, word] of units) {
    if (s >= size * (size === 86400 ? 2 : 1) || size === 1) {
      const n = Math.round(s / size);
      return `${n} ${word}${n === 1 ? "" : "s"}`;
    }
  }
  return "";
}

export const ago = (at: number, now: number) => (now - at < 60 ? "just now" : `${duration(now - at)} ago`);
export const people = (n: number) => `${count(n)} ${n === 1 ? "person" : "people"}`;

export function localInput(at: number): string {
  const f = format("sv-SE", {
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
    hour: "2-digit",
    minute: "2-digit",
  });
  return f.format(at * 1000).replace(" ", "T");
}

const DAY = 86_400;
const ahead = (at: number) => Math.round(Date.parse(`${localInput(at)}Z`) / 1000) - (at - (at % 60));

/** The moment of a local input in the workspace's zone; of an hour that exists twice the first, and one that does not
 * exist moves forward, as in plans. */
export function fromLocalInput(text: string): number | null {
  const wall = Math.round(Date.parse(`${text}Z`) / 1000);
  if (Number.isNaN(wall)) return null;
  const before = wall - ahead(wall - DAY);
  const after = wall - ahead(wall + DAY);
  const reads = (at: number) => localInput(at) === text.slice(0, 16);
  return reads(before) ? before : reads(after) ? after : before;
}

/** So many hours of the clock on the wall after the midnight before a moment: 9 is nine o'clock that day, 24 the next
 * midnight, also where the clocks change in between. */
export function atHour(at: number, hours: number): number {
  const wall = Date.parse(`${localInput(at).slice(0, 10)}T00:00Z`) + hours * 3_600_000;
  return fromLocalInput(new Date(wall).toISOString().slice(0, 16)) ?? at;
}

/** The same time of the day, some days later. */
export function daysLater(at: number, days: number): number {
  const wall = Date.parse(`${localInput(at)}Z`) + days * DAY * 1000;
  return (fromLocalInput(new Date(wall).toISOString().slice(0, 16)) ?? at) + (at % 60);
}
