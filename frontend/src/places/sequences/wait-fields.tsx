import { DAY, type Step, WEEKDAYS } from "./words";

const UNITS: [number, string][] = [
  [60, "minutes"],
  [3600, "hours"],
  [DAY, "days"],
  [7 * DAY, "weeks"],
];

/** A time, and the hour and weekdays its end moves on to. */
export function WaitFields({ x, set }: { x: Step; set: (values: Partial<Step>) => void }) {
  const unit = [...UNITS].reverse().find(([size]) => x.wait >= size && x.wait % size === 0)?.[0] ?? DAY;
  return (
    <fieldset className="space-y-2">
      <legend className="label">
        {x.kind === "wait" ? "Wait" : x.kind === "condition" ? "Check after" : "Send after"}
      </legend>
      <div className="flex gap-2">
        <input
          className="field w-[70px]"
          type="number"
          min={0}
          aria-label="How long"
          value={x.wait / unit}
          onChange={(e) => set({ wait: Math.round(Math.max(0, Number(e.target.value)) * unit) })}
        />
        <select
          className="field"
          aria-label="Unit"
          value={unit}
          onChange={(e) => set({ wait: Math.round((x.wait / unit) * Number(e.target.value)) })}
        >
          {UNITS.map(([size, words]) => (
            <option key={size} value={size}>
              {words}
            </option>
          ))}
        </select>
        <select
          className="field"
          aria-label="Until (hour)"
          value={x.hour ?? ""}
          onChange={(e) => set({ hour: e.target.value === "" ? null : Number(e.target.value) })}
        >
          <option value="">any hour</option>
          {Array.from({ length: 24 }, (_, h) => (
            <option key={h} value={h}>
              {String(h).padStart(2, "0")}:00
            </option>
          ))}
        </select>
      </div>
      <div className="flex gap-1">
        {WEEKDAYS.map((d, i) => (
          <button
            key={d}
            type="button"
            aria-pressed={x.weekdays.includes(i)}
            className={`flex-1 rounded border px-0 py-0.5 text-small ${x.weekdays.includes(i) ? "border-cornflower bg-cornflower-pale text-cornflower-deep" : "border-rule-strong bg-panel text-ink-2"}`}
            onClick={() =>
              set({
                weekdays: x.weekdays.includes(i) ? x.weekdays.filter((y) => y !== i) : [...x.weekdays, i].sort(),
              })
            }
          >
            {d}
          </button>
        ))}
      </div>
      <p className="text-small text-ink-2">{x.weekdays.length ? "Only on these days." : "On any day."}</p>
      {(x.hour !== null || x.weekdays.length > 0) && (
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={x.own_zone} onChange={(e) => set({ own_zone: e.target.checked })} /> in each
          person's time zone
        </label>
      )}
    </fieldset>
  );
}
