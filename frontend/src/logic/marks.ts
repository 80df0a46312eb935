/** Which rows are marked: some by id, or everybody who matches less some. */
export type Marks = { of: "some"; ids: ReadonlySet<number> } | { of: "all"; without: ReadonlySet<number> };

export const NO_MARKS: Marks = { of: "some", ids: new Set() };
export const ALL_MARKS: Marks = { of: "all", without: new Set() };

export const isMarked = (m: Marks, id: number): boolean => (m.of === "some" ? m.ids.has(id) : !m.without.has(id));

export const marked = (m: Marks, total: number): number => (m.of === "some" ? m.ids.size : total - m.without.size);

/** Turns marks on or off for some ids. */
export function mark(m: Marks, ids: number[], on: boolean): Marks {
  const set = new Set(m.of === "some" ? m.ids : m.without);
  for (const id of ids)
    if (on === (m.of === "some")) set.add(id);
    else set.delete(id);
  return m.of === "some" ? { of: "some", ids: set } : { of: "all", without: set };
}

/** Everything a choice needs to say about marks. */
export function choiceOf(m: Marks, filter: { rule: string; text: string; bands: string[] }) {
  return m.of === "some"
    ? { rule: "", text: "", bands: [], ids: [...m.ids], without: [] }
    : { ...filter, ids: null, without: [...m.without] };
}
