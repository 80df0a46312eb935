import { count } from "../logic/format";

/** The breakdown: bars that shrink, each clause with what is left. */
export function Exclusions({ rows }: { rows: { words: string; count: number }[] }) {
  const top = rows[0]?.count || 1;
  let left = top;
  return (
    <ol>
      {rows.map((r, i) => {
        const total = r.count >= 0;
        if (!total) left += r.count;
        else left = r.count;
        return (
          <li key={i} className="mb-1.5">
            <div className="flex justify-between gap-3">
              <span className={total ? "" : "text-ink-2"}>{r.words}</span>
              <span className={total ? "font-semibold" : "text-ink-2"}>{count(r.count)}</span>
            </div>
            <div className="mt-0.5 h-[6px] bg-wash" aria-hidden>
              <div
                className={`h-full ${i === rows.length - 1 ? "bg-cornflower" : "bg-ink-2"}`}
                style={{ width: `${(100 * left) / Math.max(top, 1)}%` }}
              />
            </div>
          </li>
        );
      })}
    </ol>
  );
}
