/** A list of things searched, filtered and sorted. Pure: no React. */

export type Value = string | number | null;

/** Whether all words of a search stand in a text, in any order. */
export function hasWords(text: string, search: string): boolean {
  const folded = text.toLowerCase();
  return search
    .toLowerCase()
    .split(/\s+/)
    .every((word) => folded.includes(word));
}

/** The items in order of a value, smallest first or, with ``down``, largest first; those without one come last. */
export function inOrder<T>(items: readonly T[], value: (item: T) => Value, down: boolean): T[] {
  const sign = down ? -1 : 1;
  return [...items].sort((a, b) => {
    const [x, y] = [value(a), value(b)];
    if (x === null || y === null) return Number(x === null) - Number(y === null);
    if (typeof x === "string" && typeof y === "string") return sign * x.localeCompare(y, undefined, { numeric: true });
    return sign * (Number(x) - Number(y));
  });
}
