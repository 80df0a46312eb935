import { useState } from "react";
import { get, type M } from "../../api/client";
import { count, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];

/** When and how much: allowed hours and weekdays, the largest batch, a cap a provider and day, the last moment. */
export function Limits({
  p,
  set,
  providers,
}: {
  p: M["Plan"];
  set: (v: Partial<M["Plan"]>) => void;
  providers: string[];
}) {
  const { fromLocalInput, localInput } = useTimes();
  const hours = Array.from({ length: 25 }, (_, h) => h);
  const [capacity, setCapacity] = useState(false);
  return (
    <>
      <h2 className="mt-5 mb-2">Sending limits</h2>
      <div className="grid grid-cols-[1.1fr_2.3fr_0.9fr_1.2fr] gap-x-5 gap-y-3 max-tablet:grid-cols-2">
        <div>
          <span className="label">{p.zones ? "In recipients' time zones" : "Sending hours"}</span>
          <span className="flex items-center gap-1.5">
            {([0, 1] as const).map((i) => (
              <select
                key={i}
                className="field"
                aria-label={i ? "Until" : "From"}
                value={p.hours[i] ?? 0}
                onChange={(e) =>
                  set({
                    hours: i ? [p.hours[0] ?? 0, Number(e.target.value)] : [Number(e.target.value), p.hours[1] ?? 24],
                  })
                }
              >
                {hours.map((h) => (
                  <option key={h} value={h}>
                    {String(h).padStart(2, "0")}:00
                  </option>
                ))}
              </select>
            ))}
          </span>
        </div>
        <fieldset>
          <legend className="label">Weekdays</legend>
          <span className="flex flex-wrap gap-x-2.5">
            {DAYS.map((d, i) => (
              <label key={d} className="flex items-center gap-1">
                <input
                  type="checkbox"
                  checked={p.weekdays.includes(i)}
                  onChange={(e) =>
                    set({ weekdays: e.target.checked ? [...p.weekdays, i].sort() : p.weekdays.filter((x) => x !== i) })
                  }
                />
                {d}
              </label>
            ))}
          </span>
        </fieldset>
        <label>
          <span className="label">Maximum batch size</span>
          <input
            type="number"
            className="field"
            min={0}
            placeholder="no limit"
            value={p.largest || ""}
            onChange={(e) => set({ largest: Math.max(0, Number(e.target.value) || 0) })}
          />
        </label>
        <label>
          <span className="label">End date</span>
          <input
            type="datetime-local"
            className="field"
            value={p.no_later_than ? localInput(p.no_later_than) : ""}
            onChange={(e) => set({ no_later_than: e.target.value ? fromLocalInput(e.target.value) : null })}
          />
        </label>
      </div>
      <div className="mt-3 flex flex-wrap items-center gap-x-6 gap-y-2">
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={p.zones} onChange={(e) => set({ zones: e.target.checked })} />
          Send at the same local hour in each recipient's time zone
        </label>
        <label className="flex items-center gap-2">
          Warm-up for a new or rested domain: first day
          <input
            type="number"
            className="field w-[92px]!"
            min={0}
            placeholder="none"
            aria-label="Recipients on the first day of the warm-up"
            value={p.ramp || ""}
            onChange={(e) => set({ ramp: Math.max(0, Math.round(Number(e.target.value)) || 0) })}
          />
          then at most double each day
        </label>
      </div>
      <div className="mt-3 flex flex-wrap items-end gap-x-5 gap-y-2">
        <span className="label mb-1.5! w-full">Daily limit per mailbox provider; the rest is sent in later slots</span>
        {providers.map((name) => (
          <label key={name}>
            <span className="label">{name}</span>
            <input
              type="number"
              className="field w-[110px]!"
              min={0}
              placeholder="no limit"
              value={p.caps[name] || ""}
              onChange={(e) => {
                const caps = { ...p.caps };
                if (Number(e.target.value) > 0) caps[name] = Number(e.target.value);
                else delete caps[name];
                set({ caps });
              }}
            />
          </label>
        ))}
        <button type="button" className="btn btn-bare" aria-expanded={capacity} onClick={() => setCapacity(!capacity)}>
          Limit by team capacity
        </button>
      </div>
      {capacity && <Capacity use={(largest) => set({ largest })} />}
    </>
  );
}

function Capacity({ use }: { use: (largest: number) => void }) {
  const [anHour, setAnHour] = useState("240");
  const [oneIn, setOneIn] = useState("9");
  const [what, setWhat] = useState("clicks");
  const [found, setFound] = useState<M["BatchThatFits"] | null>(null);
  const { run, error } = useAction();
  return (
    <div className="mt-2 border-l-2 border-rule-strong pl-3">
      <Form
        className="flex flex-wrap items-center gap-2"
        act={async () => {
          setFound(null);
          await run(async () => {
            setFound(
              await get(
                `/campaigns/capacity?an_hour=${Number(anHour)}&one_in=${Number(oneIn)}&what=${encodeURIComponent(what)}`,
              ),
            );
          });
        }}
      >
        Our team handles
        <input
          className="field w-[72px]!"
          type="number"
          min={1}
          aria-label="Contacts handled per hour"
          value={anHour}
          onChange={(e) => setAnHour(e.target.value)}
        />
        contacts an hour; 1 in
        <input
          className="field w-[60px]!"
          type="number"
          min={1}
          aria-label="Share that leads to a contact"
          value={oneIn}
          onChange={(e) => setOneIn(e.target.value)}
        />
        <select className="field w-auto!" aria-label="Of what" value={what} onChange={(e) => setWhat(e.target.value)}>
          {["clicks", "replies", "bookings"].map((w) => (
            <option key={w}>{w}</option>
          ))}
        </select>
        leads to one.
        <button type="submit" className="btn">
          Calculate
        </button>
      </Form>
      <Sentence error={error} />
      {found && (
        <p className="mt-2" role="status">
          A batch of <b>{count(found.largest)}</b> fits: {share(found.responses, found.delivered, 2)} of{" "}
          {count(found.delivered)} delivered gave {what}, {share(found.busiest, 1, 0)} of them in the busiest hour.{" "}
          <button type="button" className="btn btn-bare py-0" onClick={() => use(found.largest)}>
            Use as maximum batch size
          </button>
        </p>
      )}
    </div>
  );
}
