import { useQuery } from "@tanstack/react-query";
import { useId } from "react";
import { get } from "../../api/client";
import { keys } from "../../api/keys";
import {
  type Bound,
  freshOf,
  freshPart,
  type Hole,
  type Names,
  SHAPES,
  SIDES,
  type Span,
  shapeOf,
  type Tree,
  textOf,
  UNITS,
  withPart,
} from "../../logic/clauses";
import { count } from "../../logic/format";

const small = { height: 25, paddingInline: 5 };

/** A condition as its sentence, with everything that can be picked in it. */
export function ClauseParts({ tree, names, set }: { tree: Tree; names: Names; set: (t: Tree) => void }) {
  const shape = shapeOf(tree);
  if (!shape) return <span className="block pt-0.5">{textOf(tree)}</span>;
  const isField = shape.group === "Field";
  return (
    <span className="flex flex-wrap items-center gap-x-1.5 gap-y-1">
      {shape.parts.map((p, i) => {
        if (typeof p === "string") {
          if (!isField || i !== 2) return <span key={i}>{p}</span>;
          return <Operator key={i} tree={tree} names={names} set={set} />;
        }
        if (p.optional === "" && tree[p.key] == null) return null;
        const known = isField && p.kind === "text" ? String(tree.name) : undefined;
        return (
          <Part
            key={p.key}
            hole={p}
            tree={tree}
            names={names}
            field={known}
            set={(v) => set(withPart(tree, p.key, v))}
          />
        );
      })}
    </span>
  );
}

/** How a field is compared. */
function Operator({ tree, names, set }: { tree: Tree; names: Names; set: (t: Tree) => void }) {
  return (
    <select
      className="field w-auto"
      style={small}
      aria-label="comparison"
      value={tree.clause}
      onChange={(e) => {
        const shape = SHAPES.find((s) => s.clause === e.target.value);
        if (!shape) return;
        const next = { ...freshOf(shape, names), name: tree.name };
        set(typeof tree.value === "string" && "value" in next ? { ...next, value: tree.value } : next);
      }}
    >
      {SHAPES.filter((s) => s.group === "Field").map((s) => (
        <option key={s.clause} value={s.clause}>
          {s.label}
        </option>
      ))}
    </select>
  );
}

function Part({
  hole,
  tree,
  names,
  field,
  set,
}: {
  hole: Hole;
  tree: Tree;
  names: Names;
  field: string | undefined;
  set: (v: unknown) => void;
}) {
  const value = tree[hole.key];
  const label = [hole.before, hole.names ?? hole.key, hole.after].filter(Boolean).join(" ");
  if (hole.optional !== undefined && value == null)
    return (
      <button
        type="button"
        className="text-small text-cornflower hover:underline"
        onClick={() => set(freshPart(hole, names))}
      >
        + {hole.optional}
      </button>
    );
  return (
    <span className="inline-flex items-center gap-1">
      {hole.before}
      <Control hole={hole} value={value} label={label} names={names} field={field} set={set} />
      {hole.after}
      {hole.optional && (
        <button
          type="button"
          className="text-ink-3 hover:text-poppy"
          aria-label={`Remove “${hole.optional}”`}
          onClick={() => set(undefined)}
        >
          ×
        </button>
      )}
    </span>
  );
}

interface ControlProps {
  hole: Hole;
  value: unknown;
  label: string;
  names: Names;
  field: string | undefined;
  set: (v: unknown) => void;
}

function Control({ hole, value, label, names, field, set }: ControlProps) {
  switch (hole.kind) {
    case "bound": {
      const b = value as Bound;
      return (
        <>
          <Choice of={SIDES} value={b.side} label="comparison" set={(side) => set({ ...b, side })} />
          <Figure value={b.value} label="number" set={(v) => set({ ...b, value: v })} />
        </>
      );
    }
    case "span": {
      const s = value as Span;
      return (
        <>
          <Figure value={s.n} label={`${label} number`} set={(n) => set({ ...s, n })} />
          <Choice
            of={UNITS}
            shown={(u) => (s.n === 1 ? u : `${u}s`)}
            value={s.unit}
            label={`${label} unit`}
            set={(unit) => set({ ...s, unit })}
          />
        </>
      );
    }
    case "choice":
      return <Choice of={hole.of ?? []} value={String(value)} label={label} set={set} />;
    case "several":
      return <Several of={hole.of ?? []} value={value as string[]} set={set} />;
    case "texts":
      return <Texts value={value as string[]} set={set} />;
    case "name": {
      const known = names[hole.names ?? ""] ?? [];
      const people = new Map(known.map((n) => [n.name, n.people]));
      if (!known.length) return <Text value={String(value)} label={label} set={set} />;
      return (
        <Choice
          of={[...new Set([String(value), ...people.keys()])]}
          shown={(n) => (people.get(n) == null ? n : `${n} (${count(people.get(n) ?? 0)})`)}
          value={String(value)}
          label={label}
          set={set}
        />
      );
    }
    case "day":
      return (
        <input
          type="date"
          className="field"
          style={{ ...small, width: 128 }}
          aria-label={label}
          value={String(value ?? "")}
          onChange={(e) => set(e.target.value)}
        />
      );
    default:
      return <Text value={String(value ?? "")} label={label} set={set} field={field} />;
  }
}

function Choice({
  of,
  value,
  label,
  set,
  shown = (o) => o,
}: {
  of: readonly string[];
  value: string;
  label: string;
  set: (v: string) => void;
  shown?: (o: string) => string;
}) {
  return (
    <select
      className="field w-auto max-w-[260px]"
      style={small}
      aria-label={label}
      value={value}
      onChange={(e) => set(e.target.value)}
    >
      {of.map((o) => (
        <option key={o} value={o}>
          {shown(o)}
        </option>
      ))}
    </select>
  );
}

function Figure({ value, label, set }: { value: number; label: string; set: (v: number) => void }) {
  return (
    <input
      type="number"
      className="field"
      style={{ ...small, width: 62 }}
      step="any"
      aria-label={label}
      value={String(value)}
      onChange={(e) => e.target.value !== "" && set(Number(e.target.value))}
    />
  );
}

/** A value of a field; the values that exist are offered with how many subscribers have each. */
function Text({
  value,
  label,
  set,
  field,
}: {
  value: string;
  label: string;
  set: (v: string) => void;
  field?: string | undefined;
}) {
  const id = useId();
  const q = useQuery({
    queryKey: keys.fieldValues(field ?? ""),
    queryFn: () => get(`/segments/field-values?field=${encodeURIComponent(field ?? "")}`),
    enabled: !!field && field !== "…",
  });
  const known = (field && q.data?.names[field]) || [];
  return (
    <>
      <input
        className="field"
        style={{ ...small, width: 150 }}
        aria-label={label}
        list={known.length ? id : undefined}
        value={value}
        onChange={(e) => set(e.target.value)}
      />
      {known.length > 0 && (
        <datalist id={id}>
          {known.map((n) => (
            <option key={n.name} value={n.name}>
              {count(n.people ?? 0)} subscribers
            </option>
          ))}
        </datalist>
      )}
    </>
  );
}

function Texts({ value, set }: { value: string[]; set: (v: string[]) => void }) {
  return (
    <span className="inline-flex flex-wrap items-center gap-1">
      {value.map((v, i) => (
        <Text key={i} value={v} label={`value ${i + 1}`} set={(t) => set(value.map((x, k) => (k === i ? t : x)))} />
      ))}
      <button type="button" className="text-small text-cornflower hover:underline" onClick={() => set([...value, ""])}>
        + value
      </button>
      {value.length > 1 && (
        <button
          type="button"
          className="text-ink-3 hover:text-poppy"
          aria-label="Remove the last value"
          onClick={() => set(value.slice(0, -1))}
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
