import type { M } from "../../api/client";
import { type Clause, freshOf, type Hole, joined, SHAPES, shapeOf, type Tree, textOf } from "../../logic/clauses";
import { count } from "../../logic/format";

/** The rule as rows: each clause with holes to pick from, what it lets through and what it alone removes. */
export function ClauseRows({
  clauses,
  by,
  sieve,
  people,
  off,
  setOff,
  set,
  words,
  stale,
  rule,
}: {
  clauses: Clause[];
  by: string;
  sieve: M["SieveRow"][];
  people: number;
  off: ReadonlySet<number>;
  setOff: (off: Set<number>) => void;
  set: (rule: string) => void;
  words: Record<string, string[]>;
  stale: boolean;
  rule: string;
}) {
  const arm = by === "or";
  const change = (i: number, tree: Tree | null) => {
    const next = tree
      ? clauses.map((c, k) => (k === i ? { tree, text: textOf(tree) } : c))
      : clauses.filter((_, k) => k !== i);
    if (!tree) setOff(new Set());
    set(joined(next, by));
  };
  let row = 0;
  const everyone = sieve[0]?.left ?? 0;
  return (
    <table className={`lined ${stale ? "opacity-60" : ""}`}>
      <thead>
        <tr>
          <th className="w-7">
            <span className="sr-only">On</span>
          </th>
          <th>
            {clauses.length < 2 ? (
              "Clause"
            ) : (
              <label className="font-normal">
                People for whom{" "}
                <select
                  className="field w-auto py-0 font-semibold"
                  style={{ height: 24 }}
                  aria-label="How the clauses are joined"
                  value={by || "and"}
                  onChange={(e) => set(joined(clauses, e.target.value))}
                >
                  <option value="and">all of these hold</option>
                  <option value="or">any of these holds</option>
                </select>
              </label>
            )}
          </th>
          <th className="w-[16%]">
            <span className="sr-only">Share left</span>
          </th>
          <th className="n w-[76px]">{arm ? "Lets in" : "Left"}</th>
          <th className="n w-[104px]">{arm ? "It alone lets in" : "Alone removes"}</th>
          <th className="w-6">
            <span className="sr-only">Take it out</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr>
          <td />
          <td className="text-ink-2">everyone</td>
          <td className="pt-3!">
            <Bar share={1} />
          </td>
          <td className="n font-semibold">{count(everyone)}</td>
          <td />
          <td />
        </tr>
        {clauses.map((c, i) => {
          const on = !off.has(i);
          const s = on ? sieve[++row] : undefined;
          return (
            <tr key={i} className={on ? "" : "text-ink-3"}>
              <td>
                <input
                  type="checkbox"
                  className="mt-1.5"
                  aria-label={`${c.text}: counted`}
                  title="Switch a clause off to look; the rule itself stays as it is"
                  checked={on}
                  disabled={on && off.size + 1 === clauses.length}
                  onChange={() => {
                    const next = new Set(off);
                    if (on) next.add(i);
                    else next.delete(i);
                    setOff(next);
                  }}
                />
              </td>
              <td>
                <Sentence clause={c} words={words} change={(t) => change(i, t)} />
              </td>
              <td className="pt-3!">{s && <Bar share={s.left / Math.max(people, 1)} />}</td>
              <td className="n pt-2! font-semibold">{s ? count(s.left) : "off"}</td>
              <td className="n pt-2! text-ink-2">{s && s.alone !== null ? count(s.alone) : ""}</td>
              <td className="pt-2!">
                {clauses.length > 1 && (
                  <button
                    type="button"
                    className="text-ink-3 hover:text-poppy"
                    aria-label={`Take ${c.text} out`}
                    onClick={() => change(i, null)}
                  >
                    ×
                  </button>
                )}
              </td>
            </tr>
          );
        })}
        <tr>
          <td />
          <td colSpan={5}>
            <select
              className="field w-auto text-cornflower"
              aria-label="Add a clause"
              value=""
              onChange={(e) => {
                const shape = SHAPES.find((s) => s.clause === e.target.value);
                if (!shape) return;
                const tree = freshOf(shape, words);
                // while the rows are of an earlier text, what was typed since stays
                set(
                  stale
                    ? `${rule.trim()} ${by || "and"} ${textOf(tree)}`
                    : joined([...clauses, { tree, text: textOf(tree) }], by),
                );
              }}
            >
              <option value="">Add a clause…</option>
              {SHAPES.map((s) => (
                <option key={s.clause} value={s.clause}>
                  {s.words}
                </option>
              ))}
            </select>
          </td>
        </tr>
      </tbody>
    </table>
  );
}

const Bar = ({ share }: { share: number }) => (
  <div className="h-[6px] bg-wash" aria-hidden>
    <div className="h-full bg-ink-2" style={{ width: `${100 * share}%` }} />
  </div>
);

function Sentence({
  clause,
  words,
  change,
}: {
  clause: Clause;
  words: Record<string, string[]>;
  change: (t: Tree) => void;
}) {
  const negated = clause.tree.clause === "not";
  const tree = negated ? (clause.tree.part as Tree) : clause.tree;
  const shape = shapeOf(tree);
  if (!shape) return <span className="block pt-0.5">{clause.text}</span>;
  const set = (name: string, v: unknown) => {
    const next = { ...tree, [name]: v };
    change(negated ? { clause: "not", part: next } : next);
  };
  return (
    <span className="flex flex-wrap items-center gap-x-1.5 gap-y-1">
      <button
        type="button"
        className={negated ? "font-semibold text-poppy" : "text-ink-3 hover:text-ink"}
        aria-pressed={negated}
        title="Turn the clause round"
        onClick={() => change(negated ? tree : { clause: "not", part: tree })}
      >
        not
      </button>
      {shape.parts.map((p, i) =>
        typeof p === "string" ? (
          <span key={i}>{p}</span>
        ) : (
          <Pick key={p.name} hole={p} value={tree[p.name]} words={words} set={(v) => set(p.name, v)} />
        ),
      )}
    </span>
  );
}

function Pick({
  hole,
  value,
  words,
  set,
}: {
  hole: Hole;
  value: unknown;
  words: Record<string, string[]>;
  set: (v: unknown) => void;
}) {
  const empty = value === undefined || value === null;
  const small = { height: 25, paddingInline: 5 };
  const label = [hole.before, hole.name, hole.after].filter(Boolean).join(" ");
  if (hole.optional && empty)
    return (
      <button
        type="button"
        className="text-[13px] text-cornflower hover:underline"
        onClick={() => set(hole.kind === "number" ? 90 : (words[hole.names ?? ""]?.[0] ?? "…"))}
      >
        + {hole.before} {hole.kind === "number" ? `… ${hole.after ?? ""}` : "a message"}
      </button>
    );
  const known = words[hole.names ?? ""] ?? [];
  return (
    <span className="inline-flex items-center gap-1">
      {hole.before}
      {hole.kind === "words" ? (
        <select
          className="field w-auto"
          style={small}
          aria-label={label}
          value={String(value)}
          onChange={(e) => set(e.target.value)}
        >
          {hole.of?.map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      ) : hole.kind === "several" ? (
        <Several of={hole.of ?? []} value={value as string[]} set={set} />
      ) : hole.kind === "name" && known.length ? (
        <select
          className="field w-auto max-w-[230px]"
          style={small}
          aria-label={label}
          value={String(value)}
          onChange={(e) => set(e.target.value)}
        >
          {[...new Set([String(value), ...known])].map((o) => (
            <option key={o}>{o}</option>
          ))}
        </select>
      ) : (
        <input
          className="field"
          style={{ ...small, width: hole.kind === "number" ? 58 : hole.kind === "day" ? 128 : 150 }}
          type={hole.kind === "number" ? "number" : hole.kind === "day" ? "date" : "text"}
          min={0}
          aria-label={label}
          value={String(value ?? "")}
          onChange={(e) => {
            if (hole.kind !== "number") set(e.target.value);
            else if (e.target.value !== "") set(Number(e.target.value));
          }}
        />
      )}
      {hole.after}
      {hole.optional && (
        <button
          type="button"
          className="text-ink-3 hover:text-poppy"
          aria-label={`Without ${label}`}
          onClick={() => set(undefined)}
        >
          ×
        </button>
      )}
    </span>
  );
}

function Several({ of, value, set }: { of: readonly string[]; value: string[]; set: (v: string[]) => void }) {
  return (
    <span className="inline-flex flex-wrap gap-x-2">
      {of.map((o) => {
        const on = value.includes(o);
        return (
          <label key={o} className={`inline-flex items-center gap-1 ${on ? "" : "text-ink-3"}`}>
            <input
              type="checkbox"
              checked={on}
              disabled={on && value.length === 1}
              onChange={() => set(of.filter((x) => (x === o ? !on : value.includes(x))))}
            />
            {o}
          </label>
        );
      })}
    </span>
  );
}
