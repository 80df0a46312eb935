import type { M } from "../../api/client";
import { count, duration, share } from "../../logic/format";
import { Choice } from "../../parts/labelled";
import { Table } from "../../parts/table";

const DAY = 86400;
type Plan = M["Plan"];
type Set = (v: Partial<Plan>) => void;

/** Again, to people who leave it ignored: by which rule, after which wait, in which variants, measured by whom. */
export function ResendPlan({ p, set, plan }: { p: Plan; set: Set; plan: M["PlanView"] | undefined }) {
  const variants = p.variants.length
    ? p.variants
    : [SAME, ...(p.new_subject ? [{ ...SAME, subject: p.new_subject }] : [])];
  const keep = (next: M["Variant"][]) => set({ variants: next, new_subject: "" });
  const change = (i: number, v: Partial<M["Variant"]>) => keep(variants.map((a, k) => (k === i ? { ...a, ...v } : a)));
  return (
    <>
      <h2 className="mt-6 mb-2">Resend</h2>
      <div className="flex flex-wrap items-end gap-x-5 gap-y-3">
        <label className="flex items-center gap-2 pb-2">
          <input type="checkbox" checked={p.resend} onChange={(e) => set({ resend: e.target.checked })} /> Resend each
          batch
        </label>
        {p.resend && (
          <>
            <Choice
              label="to people who"
              className="w-[190px]"
              value={p.resend_rule}
              set={(resend_rule) => set({ resend_rule })}
              of={[
                ["not engaged", "did not engage"],
                ["opened, not clicked", "opened but did not click"],
              ]}
            />
            <div>
              <span className="label">after</span>
              <span className="flex items-center gap-2">
                <Days value={p.wait} set={(wait) => set({ wait })} label="after" /> days
              </span>
            </div>
            <label>
              <span className="label">holdout group</span>
              <span className="flex items-center gap-2">
                <input
                  type="number"
                  className="field w-[72px]"
                  min={0}
                  max={50}
                  value={Math.round(p.holdout_share * 100)}
                  onChange={(e) => e.target.value && set({ holdout_share: Math.min(50, Number(e.target.value)) / 100 })}
                />
                % of them
              </span>
            </label>
            <label className="flex items-center gap-2 pb-2">
              <input
                type="checkbox"
                checked={p.machine_only}
                onChange={(e) => set({ machine_only: e.target.checked })}
              />
              include machine-only opens
            </label>
            <label className="flex items-center gap-2 pb-2">
              <input type="checkbox" checked={p.second} onChange={(e) => set({ second: e.target.checked })} />
              second resend
            </label>
          </>
        )}
      </div>
      {p.resend && (
        <>
          {plan && plan.usual_wait !== p.wait && (
            <p className="mt-2 text-ink-2">
              95% of engagement comes within {duration(plan.usual_wait)}.{" "}
              <button type="button" className="btn btn-bare py-0" onClick={() => set({ wait: plan.usual_wait })}>
                Use this
              </button>
            </p>
          )}
          <Table label="Variants of the resend" className="mt-3">
            <thead>
              <tr>
                <th scope="col" className="w-[150px]">
                  Variant (random)
                </th>
                <th scope="col">Subject</th>
                <th scope="col">Preview text</th>
                <th scope="col" className="w-[120px]">
                  Wait (days)
                </th>
                <th scope="col" className="w-[70px]">
                  <span className="sr-only">Remove</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {variants.map((a, i) => (
                <tr key={i}>
                  <td>
                    {plan?.variants[i] ?? "Variant"}
                    <span className="block text-small text-ink-2">
                      {share((1 - p.holdout_share) / variants.length, 1, 0)}
                    </span>
                  </td>
                  <td>
                    <input
                      className="field"
                      aria-label={`Subject of variant ${i + 1}`}
                      placeholder="unchanged"
                      value={a.subject ?? ""}
                      onChange={(e) => change(i, { subject: e.target.value })}
                    />
                  </td>
                  <td>
                    <input
                      className="field"
                      aria-label={`Preview text of variant ${i + 1}`}
                      placeholder="unchanged"
                      value={a.preview ?? ""}
                      onChange={(e) => change(i, { preview: e.target.value })}
                    />
                  </td>
                  <td>
                    <Days
                      value={a.wait || p.wait}
                      set={(wait) => change(i, { wait: wait === p.wait ? 0 : wait })}
                      label={`Wait of variant ${i + 1}`}
                    />
                  </td>
                  <td>
                    {variants.length > 1 && (
                      <button
                        type="button"
                        className="btn btn-bare py-0"
                        aria-label={`Remove variant ${i + 1}`}
                        onClick={() => keep(variants.filter((_, k) => k !== i))}
                      >
                        Remove
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
          {variants.length < 4 && (
            <button type="button" className="btn btn-bare mt-1" onClick={() => keep([...variants, { ...SAME }])}>
              Add variant
            </button>
          )}
          {plan?.resend && <p className="mt-1 text-ink-2">{plan.resend}</p>}
        </>
      )}
    </>
  );
}

const SAME = { subject: "", preview: "", wait: 0 };

function Days({ value, set, label }: { value: number; set: (seconds: number) => void; label: string }) {
  return (
    <input
      type="number"
      className="field w-[72px]!"
      aria-label={label}
      min={0.1}
      max={60}
      step={0.5}
      value={Number((value / DAY).toFixed(1))}
      onChange={(e) => Number(e.target.value) > 0 && set(Math.round(Number(e.target.value) * DAY))}
    />
  );
}

/** Two versions against each other in the pilot batch, and what decides. */
export function Trial({ c, p, set }: { c: M["Campaign"]; p: Plan; set: Set }) {
  const other = c.versions.find((v) => v.n === 2);
  const t = p.test;
  if (!other) return null;
  return (
    <div className="mt-4 border-l-2 border-rule-strong pl-3">
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          checked={!!t}
          onChange={(e) =>
            set({
              test: e.target.checked ? { figure: "opened", wait: 14400, pick: "better", settled: "", why: "" } : null,
            })
          }
        />
        A/B test in the pilot batch: half get version A, half B, at random
      </label>
      {t && (
        <p className="mt-2 flex flex-wrap items-center gap-2">
          Metric
          <Choice
            label="Metric"
            hidden
            className="w-auto!"
            value={t.figure ?? "opened"}
            set={(figure) => set({ test: { ...t, figure } })}
            of={[
              ["opened", "opens (human)"],
              ["clicked", "clicks (human)"],
            ]}
          />
          after
          <input
            type="number"
            className="field w-[72px]!"
            aria-label="Hours until the decision"
            min={1}
            max={336}
            value={Math.round((t.wait ?? 14400) / 3600)}
            onChange={(e) =>
              Number(e.target.value) >= 1 && set({ test: { ...t, wait: Number(e.target.value) * 3600 } })
            }
          />
          hours; then send the rest
          <Choice
            label="Then send the rest"
            hidden
            className="w-auto!"
            value={t.pick ?? "better"}
            set={(pick) => set({ test: { ...t, pick } })}
            of={[
              ["better", "the winner (A if there is no significant difference)"],
              ["by hand", "my choice (the campaign pauses until I choose)"],
            ]}
          />
        </p>
      )}
    </div>
  );
}

/** When people answer, by their own clocks; offered, never imposed. */
export function BestHour({ best, p, set }: { best: M["BestHours"] | null; p: Plan; set: Set }) {
  if (!best) return null;
  const most = Math.max(...best.counts, 1);
  const clock = (h: number) => `${String(h % 24).padStart(2, "0")}:00`;
  return (
    <>
      <h2 className="mt-5 mb-1">Engagement by hour</h2>
      <svg
        viewBox="0 0 288 58"
        className="block w-full"
        role="img"
        aria-label={`Engagement by local hour, most from ${clock(best.begin)} to ${clock(best.begin + 3)}`}
      >
        {best.counts.map((n, h) => {
          const inside = (h - best.begin + 24) % 24 < 3;
          return (
            <rect
              key={h}
              x={h * 12 + 1}
              y={42 - (40 * n) / most}
              width={10}
              height={(40 * n) / most}
              fill={inside ? "var(--color-cornflower)" : "var(--color-rule-strong)"}
            />
          );
        })}
        {[0, 6, 12, 18].map((h) => (
          <text key={h} x={h * 12 + 1} y={55} fontSize="10.5" fill="var(--color-ink-3)">
            {clock(h)}
          </text>
        ))}
      </svg>
      <p className="text-small text-ink-2">
        {clock(best.begin)} to {clock(best.begin + 3)}: {share(best.share, 1)} of {count(best.engagements)} engagements
        ({share(best.low, 1)} to {share(best.high, 1)}), in recipients' local time.{" "}
        {best.sure ? "Significantly more than any other three hours." : "Not significantly more than other hours."}
        {best.sent_at !== null &&
          ` But nearly all mail was sent around ${clock(best.sent_at)}: there is little data for other hours.`}
      </p>
      <p className="mt-1 flex flex-wrap gap-2">
        <button
          type="button"
          className="btn"
          disabled={p.hours[0] === best.begin}
          onClick={() => set({ hours: [best.begin, Math.min(24, best.begin + 3)] })}
        >
          Send only in these hours
        </button>
      </p>
      <label className="mt-2 flex items-baseline gap-2">
        <input type="checkbox" checked={p.own_hour} onChange={(e) => set({ own_hour: e.target.checked })} />
        {count(best.own)} have a best hour of their own: send then, within the sending hours
      </label>
    </>
  );
}
