const number = new Intl.NumberFormat("en-GB");

export const count = (n: number) => number.format(n).replace("-", "−");

export function share(k: number, n: number, digits = 1): string {
  return n ? `${((100 * k) / n).toFixed(digits)}%` : "–";
}

export function points(x: number): string {
  return `${x >= 0 ? "+" : "−"}${Math.abs(100 * x).toFixed(1)} pts`;
}

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
/** Money in the workspace's currency, whole: "EUR 1,240". */
export const amount = (n: number, currency: string) => `${currency} ${count(Math.round(n))}`.trim();
