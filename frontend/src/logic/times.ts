/** Moments as they are written and entered in one time zone. */
export interface Times {
  zone: string;
  clockTime: (at: number) => string;
  weekday: (at: number) => string;
  /** 0 is Monday. */
  weekdayNumber: (at: number) => number;
  moment: (at: number) => string;
  day: (at: number) => string;
  month: (at: number) => string;
  /** With its year where it is far from now. */
  when: (at: number, now: number) => string;
  localInput: (at: number) => string;
  /** The moment of a local input; of an hour that exists twice the first, and one that does not exist moves forward, as
   * in plans. Null for what is no time. */
  fromLocalInput: (text: string) => number | null;
  /** So many hours of the clock on the wall after the midnight before a moment: 9 is nine o'clock that day, 24 the next
   * midnight, also where the clocks change in between. */
  atHour: (at: number, hours: number) => number;
  /** The same time of the day, some days later. */
  daysLater: (at: number, days: number) => number;
}

const DAY = 86_400;
const HOUR_MS = 3_600_000;
/** From here on a moment is written with its year. */
const FAR = 300 * DAY;

/** The times of a zone; made once for each, as making a format costs more than using it a hundred times. */
export function timesIn(zone: string): Times {
  const known = made.get(zone);
  if (known) return known;
  const format = (locale: string, options: Intl.DateTimeFormatOptions) => {
    const f = new Intl.DateTimeFormat(locale, { timeZone: zone, ...options });
    return (at: number) => f.format(at * 1000).replace("Sept", "Sep");
  };
  const clockTime = format("en-GB", { hour: "2-digit", minute: "2-digit", hour12: false });
  const dated = format("en-GB", { weekday: "short", day: "numeric", month: "short" });
  const named = format("en-GB", { weekday: "short" });
  const day = format("en-GB", { day: "numeric", month: "short", year: "numeric" });
  const minutes = format("sv-SE", {
    year: "numeric",
    month: "2-digit",
    day: "2-digit",
    hour: "2-digit",
    minute: "2-digit",
  });
  const weekday = (at: number) => dated(at).replace(",", "");
  const moment = (at: number) => `${weekday(at)}, ${clockTime(at)}`;
  const localInput = (at: number) => minutes(at).replace(" ", "T");
  const ahead = (at: number) => Math.round(Date.parse(`${localInput(at)}Z`) / 1000) - (at - (at % 60));
  const fromLocalInput = (text: string): number | null => {
    const wall = Math.round(Date.parse(`${text}Z`) / 1000);
    if (Number.isNaN(wall)) return null;
    const before = wall - ahead(wall - DAY);
    const after = wall - ahead(wall + DAY);
    const reads = (at: number) => localInput(at) === text.slice(0, 16);
    return reads(before) ? before : reads(after) ? after : before;
  };
  const fromWall = (wall: number) => fromLocalInput(new Date(wall).toISOString().slice(0, 16));
  const times: Times = {
    zone,
    clockTime,
    weekday,
    weekdayNumber: (at) => ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"].indexOf(named(at)),
    moment,
    day,
    month: format("en-GB", { month: "short" }),
    when: (at, now) => (Math.abs(now - at) > FAR ? `${day(at)}, ${clockTime(at)}` : moment(at)),
    localInput,
    fromLocalInput,
    atHour: (at, hours) => fromWall(Date.parse(`${localInput(at).slice(0, 10)}T00:00Z`) + hours * HOUR_MS) ?? at,
    daysLater: (at, days) => (fromWall(Date.parse(`${localInput(at)}Z`) + days * DAY * 1000) ?? at) + (at % 60),
  };
  made.set(zone, times);
  return times;
}

const made = new Map<string, Times>();
