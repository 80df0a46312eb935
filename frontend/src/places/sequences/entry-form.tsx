import { useState } from "react";
import type { M } from "../../api/client";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { TextField } from "../../parts/labelled";
import { May } from "../../parts/may";
import { Sentence } from "../../parts/waiting";
import { BEGINS, DAY } from "./words";

/** When it begins, how many a day, what it is about, who leaves at once. */
export function BeginForm({
  s,
  save,
  close,
}: {
  s: M["SequenceView"];
  save: (body: M["SequenceChange"]) => Promise<void>;
  close: () => void;
}) {
  const [b, setB] = useState(s.definition.begin);
  const [leave, setLeave] = useState(s.definition.leave);
  const [hours, setHours] = useState<[number, number]>(s.definition.hours as [number, number]);
  const [held, setHeld] = useState(Math.round(100 * s.definition.holdout));
  const [head, setHead] = useState({
    name: s.name,
    purpose: s.purpose,
    from_address: s.from_address,
    from_name: s.from_name,
  });
  const { run, error } = useAction();
  const kind = BEGINS.find((x) => x.on === b.on);
  const options = kind?.what ? s.choices[kind.what] : [];
  const number = (words: string, field: "a_day" | "first_day" | "a_provider") => (
    <label className="min-w-0 flex-1">
      <span className="label">{words}</span>
      <input
        className="field"
        type="number"
        min={0}
        value={b[field] || ""}
        placeholder="no limit"
        onChange={(e) => setB({ ...b, [field]: Number(e.target.value) || 0 })}
      />
    </label>
  );
  const hour = (label: string, value: number, from: number, to: number, set: (h: number) => void) => (
    <select
      className="field w-[84px] py-0.5"
      aria-label={label}
      value={value}
      onChange={(e) => set(Number(e.target.value))}
    >
      {Array.from({ length: to - from + 1 }, (_, i) => from + i).map((h) => (
        <option key={h} value={h}>{`${String(h).padStart(2, "0")}:00`}</option>
      ))}
    </select>
  );
  const tick = (words: string, checked: boolean, set: (on: boolean) => void) => (
    <label className="flex items-center gap-2">
      <input type="checkbox" checked={checked} onChange={(e) => set(e.target.checked)} /> {words}
    </label>
  );
  return (
    <May to="write">
      <Form
        className="space-y-3"
        act={async () => {
          await run(async () => {
            await save({ ...head, definition: { ...s.definition, begin: b, leave, hours, holdout: held / 100 } });
            close();
          });
        }}
      >
        <h2>Entry</h2>
        <TextField label="Name" value={head.name} set={(text) => setHead({ ...head, name: text })} />
        <label className="block">
          <span className="label">Trigger</span>
          <select className="field" value={b.on} onChange={(e) => setB({ ...b, on: e.target.value, what: "" })}>
            {BEGINS.map((x) => (
              <option key={x.on} value={x.on}>
                {x.words}
              </option>
            ))}
          </select>
        </label>
        {kind?.what && (
          <label className="block">
            <span className="label">Which</span>
            <select className="field" value={b.what} onChange={(e) => setB({ ...b, what: e.target.value })}>
              <option value="">choose…</option>
              {options.map((o) => (
                <option key={o}>{o}</option>
              ))}
            </select>
          </label>
        )}
        {b.on === "a date" && tick("Every year", b.yearly, (yearly) => setB({ ...b, yearly }))}
        <div className="flex items-center gap-2">
          {tick("Allow re-entry", b.again_after !== null, (on) => setB({ ...b, again_after: on ? 180 * DAY : null }))}
          {b.again_after !== null && (
            <>
              after
              <input
                className="field w-[64px]"
                type="number"
                min={0}
                aria-label="Days until re-entry"
                value={b.again_after / DAY}
                onChange={(e) => setB({ ...b, again_after: Math.max(0, Number(e.target.value)) * DAY })}
              />
              days
            </>
          )}
        </div>
        <div className="flex gap-2">
          {number("Limit, first day", "first_day")}
          {number("Daily limit", "a_day")}
          {number("Per provider", "a_provider")}
        </div>
        {tick("Random order instead of first come, first served", b.random, (random) => setB({ ...b, random }))}
        <div className="flex items-center gap-2">
          Messages go out from
          {hour("First sending hour", hours[0], 0, hours[1] - 1, (h) => setHours([h, hours[1]]))}
          until
          {hour("Last sending hour", hours[1], hours[0] + 1, 24, (h) => setHours([hours[0], h]))}
        </div>
        <h2 className="pt-2">Sender and purpose</h2>
        <label className="block">
          <span className="label">Purpose</span>
          <select
            className="field"
            value={head.purpose ?? ""}
            onChange={(e) => setHead({ ...head, purpose: Number(e.target.value) || null })}
          >
            <option value="">choose…</option>
            {s.purposes.map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
          </select>
        </label>
        <div className="space-y-2">
          <label className="block">
            <span className="label">From</span>
            <select
              className="field"
              value={head.from_address ?? ""}
              onChange={(e) => setHead({ ...head, from_address: Number(e.target.value) || null })}
            >
              <option value="">choose…</option>
              {s.addresses.map((a) => (
                <option key={a.id} value={a.id}>
                  {a.name}
                </option>
              ))}
            </select>
          </label>
          <label className="block">
            <span className="label">From name</span>
            <input
              className="field"
              value={head.from_name}
              onChange={(e) => setHead({ ...head, from_name: e.target.value })}
            />
          </label>
        </div>
        <h2 className="pt-2">Exit when</h2>
        <div>
          {tick("they engage with any of its messages", leave.engaged, (engaged) => setLeave({ ...leave, engaged }))}
          {tick("they confirm", leave.confirmed, (confirmed) => setLeave({ ...leave, confirmed }))}
          {tick("they book", leave.booked, (booked) => setLeave({ ...leave, booked }))}
        </div>
        <TextField
          label="or they match this rule"
          value={leave.rule}
          set={(text) => setLeave({ ...leave, rule: text })}
          placeholder='has label "patron"'
        />
        <label className="flex items-center gap-2 pt-2">
          Holdout group for resends
          <input
            className="field w-[64px]"
            type="number"
            min={0}
            max={50}
            value={held}
            onChange={(e) => setHeld(Number(e.target.value))}
          />
          %
        </label>
        <Sentence error={error} />
        <div className="flex gap-2 pt-2">
          <button type="submit" className="btn btn-main">
            Save sequence
          </button>
          <button type="button" className="btn" onClick={close}>
            Cancel
          </button>
        </div>
      </Form>
    </May>
  );
}
