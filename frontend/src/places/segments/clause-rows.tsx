import type { M } from "../../api/client";
import { freshOf, grouped, isGroup, type Names, partsOf, SHAPES, type Tree, textOf } from "../../logic/clauses";
import { count } from "../../logic/format";
import { Table } from "../../parts/table";
import { ClauseParts } from "./clause-parts";

const GROUPS = [...new Set(SHAPES.map((s) => s.group))];

/** The rule as rows: every condition and group with its parts to pick, how many remain after it and how many it alone
 * removes. */
export function ClauseRows({
  tree,
  breakdown,
  people,
  off,
  setOff,
  set,
  names,
  stale,
}: {
  tree: Tree;
  breakdown: M["BreakdownRow"][];
  people: number;
  off: ReadonlySet<number>;
  setOff: (off: Set<number>) => void;
  set: (rule: string) => void;
  names: Names;
  stale: boolean;
}) {
  const by = isGroup(tree) ? tree.clause : "and";
  const parts = isGroup(tree) ? partsOf(tree) : [tree];
  const write = (next: Tree[], joinedBy = by) => {
    const whole = grouped(joinedBy, next);
    if (next.length !== parts.length) setOff(new Set());
    set(whole ? textOf(whole) : "");
  };
  const everyone = breakdown[0]?.remaining ?? 0;
  let row = 0;
  return (
    <Table label="Clauses" className={`${stale ? "dimmed" : ""}`}>
      <thead>
        <tr>
          <th scope="col" className="w-7">
            <span className="sr-only">Counted</span>
          </th>
          <th scope="col">
            {parts.length < 2 ? (
              "Condition"
            ) : (
              <JoinedBy by={by} set={(to) => write(parts, to)} label="Subscribers who match" />
            )}
          </th>
          <th scope="col" className="w-[14%]">
            <span className="sr-only">Share</span>
          </th>
          <th scope="col" className="n w-[84px]">
            {by === "or" ? "Adds" : "Remaining"}
          </th>
          <th scope="col" className="n w-[112px]">
            {by === "or" ? "Adds on its own" : "Removes alone"}
          </th>
          <th scope="col" className="w-6">
            <span className="sr-only">Remove</span>
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
        {parts.map((p, i) => {
          const on = !off.has(i);
          const s = on ? breakdown[++row] : undefined;
          const left = s?.remaining ?? s?.adds;
          const alone = s?.removed_only_by_this ?? s?.added_only_by_this;
          return (
            <tr key={i} className={on ? "" : "text-ink-3"}>
              <td>
                <input
                  type="checkbox"
                  className="mt-1.5"
                  aria-label={`Count ${textOf(p)}`}
                  title="Disable a condition to see the effect; the rule does not change"
                  checked={on}
                  disabled={on && off.size + 1 >= parts.length}
                  onChange={() => {
                    const next = new Set(off);
                    if (on) next.add(i);
                    else next.delete(i);
                    setOff(next);
                  }}
                />
              </td>
              <td>
                <Node tree={p} names={names} set={(t) => write(parts.map((x, k) => (k === i ? t : x)))} />
              </td>
              <td className="pt-3!">{left != null && <Bar share={left / Math.max(people, 1)} />}</td>
              <td className="n pt-2! font-semibold">{left != null ? count(left) : "disabled"}</td>
              <td className="n pt-2! text-ink-2">{alone != null ? count(alone) : ""}</td>
              <td className="pt-2!">
                {parts.length > 1 && (
                  <RemoveButton what={textOf(p)} act={() => write(parts.filter((_, k) => k !== i))} />
                )}
              </td>
            </tr>
          );
        })}
        <tr>
          <td />
          <td colSpan={5}>
            <AddClause names={names} add={(t) => write([...parts, t])} inside={by} />
          </td>
        </tr>
      </tbody>
    </Table>
  );
}

/** One condition or group, with "not" before it. */
function Node({ tree, names, set }: { tree: Tree; names: Names; set: (t: Tree) => void }) {
  const negated = tree.clause === "not";
  const inner = negated ? (tree.part as Tree) : tree;
  const put = (t: Tree) => set(negated ? { clause: "not", part: t } : t);
  return (
    <span className="flex items-start gap-x-1.5">
      <button
        type="button"
        className={`pt-0.5 ${negated ? "font-semibold text-poppy" : "text-ink-3 hover:text-ink"}`}
        aria-pressed={negated}
        title="Negate this condition"
        onClick={() => set(negated ? inner : { clause: "not", part: inner })}
      >
        not
      </button>
      {isGroup(inner) ? (
        <Group tree={inner} names={names} set={put} />
      ) : (
        <ClauseParts tree={inner} names={names} set={put} />
      )}
    </span>
  );
}

/** A nested group: its conditions under each other, behind a line. */
function Group({ tree, names, set }: { tree: Tree; names: Names; set: (t: Tree) => void }) {
  const parts = partsOf(tree);
  const write = (next: Tree[], by = tree.clause) => {
    const whole = next.length ? { clause: by, parts: next } : null;
    if (whole) set(next.length === 1 ? (next[0] as Tree) : whole);
  };
  return (
    <fieldset className="min-w-0 grow border-l-2 border-rule-strong pl-2.5">
      <legend className="sr-only">A group of conditions</legend>
      <JoinedBy by={tree.clause} set={(by) => write(parts, by)} label="Match" />
      {parts.map((p, i) => (
        <div key={i} className="flex items-start justify-between gap-2 py-0.5">
          <Node tree={p} names={names} set={(t) => write(parts.map((x, k) => (k === i ? t : x)))} />
          <RemoveButton what={textOf(p)} act={() => write(parts.filter((_, k) => k !== i))} />
        </div>
      ))}
      <AddClause names={names} add={(t) => write([...parts, t])} inside={tree.clause} />
    </fieldset>
  );
}

function JoinedBy({ by, set, label }: { by: string; set: (by: string) => void; label: string }) {
  return (
    <label className="font-normal">
      {label}{" "}
      <select
        className="field w-auto py-0 font-semibold"
        style={{ height: 24 }}
        aria-label={`${label} all or any of these conditions`}
        value={by}
        onChange={(e) => set(e.target.value)}
      >
        <option value="and">all of these conditions</option>
        <option value="or">any of these conditions</option>
      </select>
    </label>
  );
}

function AddClause({ names, add, inside }: { names: Names; add: (t: Tree) => void; inside: string }) {
  const [first, second] = ["opened", "clicked"].map((c) => SHAPES.find((s) => s.clause === c));
  return (
    <select
      className="field w-auto text-cornflower"
      aria-label="Add a condition"
      value=""
      onChange={(e) => {
        if (e.target.value === "group" && first && second)
          add({ clause: inside === "and" ? "or" : "and", parts: [freshOf(first, names), freshOf(second, names)] });
        const shape = SHAPES.find((s) => s.clause === e.target.value);
        if (shape) add(freshOf(shape, names));
      }}
    >
      <option value="">Add a condition…</option>
      <option value="group">a group, {inside === "and" ? "any of its conditions" : "all of its conditions"}</option>
      {GROUPS.map((g) => (
        <optgroup key={g} label={g}>
          {SHAPES.filter((s) => s.group === g).map((s) => (
            <option key={s.clause} value={s.clause}>
              {g === "Field" ? `field ${s.label}` : s.label}
            </option>
          ))}
        </optgroup>
      ))}
    </select>
  );
}

const RemoveButton = ({ what, act }: { what: string; act: () => void }) => (
  <button type="button" className="text-ink-3 hover:text-poppy" aria-label={`Remove ${what}`} onClick={act}>
    ×
  </button>
);

const Bar = ({ share }: { share: number }) => (
  <div className="h-[6px] bg-wash" aria-hidden>
    <div className="h-full bg-ink-2" style={{ width: `${100 * share}%` }} />
  </div>
);
