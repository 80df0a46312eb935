import { type ChangeEvent, useEffect, useId, useState } from "react";
import { count } from "../logic/format";

/** A line of text with its label above. */
export function TextField({
  label,
  value,
  set,
  placeholder,
}: {
  label: string;
  value: string;
  set: (text: string) => void;
  placeholder?: string;
}) {
  return (
    <label className="block">
      <span className="label">{label}</span>
      <input className="field" value={value} placeholder={placeholder} onChange={(e) => set(e.target.value)} />
    </label>
  );
}

/** A number with its label above and its unit after it; one outside its bounds is said and not taken. ``scale`` is what
 * one on the screen is in ``value``, as 3600 where seconds are shown in hours. */
export function NumberField({
  label,
  value,
  set,
  unit,
  min,
  max,
  step = 1,
  scale = 1,
}: {
  label: string;
  value: number;
  set: (value: number) => void;
  unit: string;
  min: number;
  max: number;
  step?: number;
  scale?: number;
}) {
  const shown = String(Number((value / scale).toFixed(2)));
  const [typed, setTyped] = useState(shown);
  const said = useId();
  // biome-ignore lint/correctness/useExhaustiveDependencies: what is typed stays until another value comes
  useEffect(() => {
    if (Number(typed) !== Number(shown)) setTyped(shown);
  }, [shown]);
  const fits = typed.trim() !== "" && Number(typed) >= min && Number(typed) <= max;
  return (
    <label>
      <span className="label">{label}</span>
      <span className="flex items-center gap-2">
        <input
          type="number"
          className="field w-[92px]"
          min={min}
          max={max}
          step={step}
          value={typed}
          aria-invalid={!fits}
          aria-describedby={fits ? undefined : said}
          onChange={(e) => {
            setTyped(e.target.value);
            const n = Number(e.target.value);
            if (e.target.value && n >= min && n <= max) set(Math.round(n * scale * 10000) / 10000);
          }}
        />
        {unit}
      </span>
      {!fits && (
        <span id={said} role="alert" className="block text-small text-poppy">
          {count(min)} to {count(max)}; {shown} stands.
        </span>
      )}
    </label>
  );
}

/** One of a few values, each with its words; what is not among them does not compile. */
export function Choice<T extends string>({
  label,
  value,
  set,
  of,
  className = "",
  hidden,
  disabled,
}: {
  label: string;
  value: T;
  set: (value: T) => void;
  of: readonly (readonly [value: T, words: string])[];
  className?: string;
  /** Said to those who cannot see it, where the sentence around it says what it is. */
  hidden?: boolean;
  disabled?: boolean;
}) {
  const props = {
    className: `field ${className}`,
    value,
    disabled,
    onChange: (e: ChangeEvent<HTMLSelectElement>) => {
      const chosen = of.find(([v]) => v === e.target.value);
      if (chosen) set(chosen[0]);
    },
    children: of.map(([v, words]) => (
      <option key={v} value={v}>
        {words}
      </option>
    )),
  };
  if (hidden) return <select {...props} aria-label={label} />;
  return (
    <label className="block">
      <span className="label">{label}</span>
      <select {...props} />
    </label>
  );
}
