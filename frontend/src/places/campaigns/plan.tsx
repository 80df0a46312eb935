import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { count, duration, fromLocalInput, localInput, moment, share, zoneName } from "../../logic/format";
import type { Slot } from "../../logic/timeline";
import { Ask, BandBar, Page, Sentence, Sieve, Waiting } from "../../parts/basics";
import { useFoot } from "../../parts/frame";
import { May } from "../../parts/may";
import { Approval } from "./approval";
import { type CampaignProps, chosenKey } from "./campaign";
import { useChecks } from "./checks";
import { Limits } from "./plan-limits";
import { BestHour, ResendPlan, Trial } from "./plan-resend";
import { RunningPlan } from "./plan-running";
import { Timeline } from "./timeline";

export function PlanPage(props: CampaignProps) {
  return props.c.state === "draft" ? <DraftPlan {...props} /> : <RunningPlan {...props} />;
}

const HOUR = 3600;

function DraftPlan({ c, head, write }: CampaignProps) {
  const client = useQueryClient();
  const go = useNavigate();
  const now = useFoot().data?.now ?? 0;
  const [p, setP] = useState(c.plan);
  const [error, setError] = useState<Error | null>(null);
  const timer = useRef(0);
  const plan = useQuery({
    queryKey: ["plan", String(c.id)],
    queryFn: () => get(`/campaigns/${c.id}/plan`),
    placeholderData: keepPreviousData,
  });
  const whom = useQuery({
    queryKey: ["recipients", String(c.id), chosenKey(c)],
    queryFn: () => get(`/campaigns/${c.id}/recipients`),
  });
  const set = (values: Partial<M["PlanIn"]>) => {
    const next = { ...p, ...values };
    setP(next);
    clearTimeout(timer.current);
    timer.current = window.setTimeout(async () => {
      setError(null);
      try {
        await write({ plan: next });
      } catch (e) {
        setError(e as Error);
      }
    }, 250);
  };
  const batches = plan.data?.batches ?? [];
  const total = batches.reduce((a, b) => a + b.people, 0);
  const slots: Slot[] = batches.flatMap((b) => {
    const one: Slot = {
      key: `f${b.n}`,
      label: b.lead ? "lead" : String(b.n),
      due: b.due_at,
      people: b.people,
      state: "waiting",
      resend: false,
      lead: b.lead,
      handed: 0,
    };
    return b.again_at
      ? [
          one,
          {
            ...one,
            key: `r${b.n}`,
            label: b.lead ? "lead" : String(b.n),
            due: b.again_at,
            people: 0,
            resend: true,
            fixed: true,
          },
        ]
      : [one];
  });
  const checked = useChecks(c.id, true);
  const stops = (checked.data?.checks ?? c.checks).filter((x) => x.level === "stop" && !x.overruled);
  const number = (
    name: keyof M["PlanIn"],
    value: number,
    step: number,
    scale: number,
    most: number,
    least: number,
    words: string,
    unit: string,
  ) => (
    <label>
      <span className="label">{words}</span>
      <span className="flex items-center gap-2">
        <input
          type="number"
          className="field w-[92px]"
          min={least}
          max={most}
          step={step}
          value={Number((value / scale).toFixed(2))}
          onChange={(e) =>
            e.target.value &&
            set({ [name]: Math.round(Math.min(most, Math.max(least, Number(e.target.value))) * scale * 10000) / 10000 })
          }
        />
        {unit}
      </span>
    </label>
  );
  return (
    <Page
      {...head}
      acts={
        <>
          <Approval c={c} />
          <May to="decide">
            <Elsewhere c={c} people={total} />
            <Ask
              trigger={
                <button
                  type="button"
                  className="btn btn-main"
                  disabled={!total || stops.length > 0}
                  title={stops[0]?.finding}
                >
                  Start…
                </button>
              }
              title={`Start ${c.name}?`}
              words={`Start, ${count(total)} people`}
              act={async () => {
                await post(`/campaigns/${c.id}/start`);
                await client.invalidateQueries();
                go(`/campaigns/${c.id}/plan`);
              }}
            >
              <p>
                {count(total)} people get “{c.subject}” from {c.from_text}, in {batches.length}{" "}
                {batches.length === 1 ? "batch" : "batches"} from {batches[0] ? moment(batches[0].due_at) : ""} to{" "}
                {batches.at(-1) ? moment(batches.at(-1)?.due_at ?? 0) : ""} ({zoneName()}).
              </p>
              {p.resend && (
                <p className="mt-2">
                  Whoever {p.resend_rule === "not answered" ? "has not answered" : "opened and did not click"}{" "}
                  {duration(p.wait)} after their batch gets it again
                  {(plan.data?.arms.length ?? 1) > 1 ? ` in ${plan.data?.arms.length} arms by lot` : ""};{" "}
                  {share(p.held_share, 1, 0)} are held back.
                </p>
              )}
              {p.test && (
                <p className="mt-2">
                  The pilot batch tries two versions; what happens next is decided by {p.test.figure} after{" "}
                  {duration(p.test.wait)}.
                </p>
              )}
              <p className="mt-2">You can pause it at any time.</p>
            </Ask>
          </May>
        </>
      }
      side={
        <>
          <h2 className="mb-1">Who goes when</h2>
          <p className="mb-3 text-ink-2">
            The lead batch is drawn by lot within every band, so it speaks for the rest.{" "}
            {p.order === "by lot" ? "The others follow by lot." : "Then the most engaged first."} Permission is asked
            again at each hand-over.
          </p>
          {batches.map((b) => (
            <div key={b.n} className="mb-2 grid grid-cols-[52px_1fr_48px] items-center gap-2">
              <span>{b.lead ? "Lead" : `Batch ${b.n}`}</span>
              <BandBar bands={b.bands} />
              <span className="text-right">{count(b.people)}</span>
            </div>
          ))}
          {plan.data?.note && <p className="mt-2 text-wheat">{plan.data.note}</p>}
          <May to="write">
            <BestHour best={plan.data?.best ?? null} p={p} set={set} />
          </May>
          <h2 className="mt-5 mb-2">Recipients</h2>
          {whom.data ? <Sieve rows={whom.data.sieve} /> : <Waiting error={whom.error} what="the recipients" />}
          {stops.length > 0 && (
            <>
              <h2 className="mt-5 mb-1">Before it can start</h2>
              {stops.map((s) => (
                <p key={s.finding} className="mb-1 text-poppy">
                  {s.check}: {s.finding}
                </p>
              ))}
            </>
          )}
        </>
      }
    >
      <May to="write">
        <Sentence error={error ?? plan.error} />
        <Timeline
          slots={slots}
          now={now}
          plan={p}
          move={(slot, due) => set({ moved: { ...p.moved, [slot.key.slice(1)]: due } })}
        />
        {Object.keys(p.moved).length > 0 && (
          <p className="mt-1 text-[13px] text-ink-2">
            {Object.keys(p.moved).length === 1 ? "One batch was" : `${Object.keys(p.moved).length} batches were`} moved
            by hand.{" "}
            <button type="button" className="btn btn-bare py-0" onClick={() => set({ moved: {} })}>
              Back to even intervals
            </button>
          </p>
        )}
        <div className="mt-4 grid grid-cols-[1fr_1.25fr_1fr_1fr_1.2fr] gap-x-5 gap-y-3 max-[1000px]:grid-cols-2">
          <label>
            <span className="label">Starts</span>
            <span className="flex items-center gap-2">
              <select
                className="field"
                aria-label="Starts"
                value={p.start ? "at" : "now"}
                onChange={(e) => set({ start: e.target.value === "at" ? Math.ceil(now / HOUR) * HOUR + HOUR : null })}
              >
                <option value="now">now</option>
                <option value="at">at a time</option>
              </select>
            </span>
          </label>
          {p.start ? (
            <label>
              <span className="label">at</span>
              <input
                type="datetime-local"
                className="field"
                value={localInput(p.start)}
                onChange={(e) => {
                  const at = fromLocalInput(e.target.value);
                  if (at) set({ start: at });
                }}
              />
            </label>
          ) : null}
          {number("lead_share", p.lead_share, 1, 0.01, 50, 0, "Lead batch by lot", "% of people")}
          {number("batches", p.batches, 1, 1, 100, 1, "Then", p.batches === 1 ? "batch" : "batches")}
          {number("interval", p.interval, 0.5, HOUR, 720, 0.1, "apart by", "hours")}
          <label>
            <span className="label">Order</span>
            <select
              className="field"
              value={p.order}
              onChange={(e) => set({ order: e.target.value as M["PlanIn"]["order"] })}
            >
              <option>most engaged first</option>
              <option>by lot</option>
              <option>by time zone</option>
            </select>
          </label>
        </div>
        <Trial c={c} p={p} set={set} />
        <Limits p={p} set={set} providers={(whom.data?.providers ?? []).map((x) => x.words)} />
        <ResendPlan p={p} set={set} plan={plan.data} />
        <BatchTable batches={batches} />
      </May>
    </Page>
  );
}

/** The batches once more, for reading and copying. */
function BatchTable({ batches }: { batches: M["PlannedBatch"][] }) {
  if (batches.length < 2) return null;
  return (
    <details className="mt-6">
      <summary className="cursor-pointer text-cornflower">The batches as a table</summary>
      <table className="lined mt-1 max-w-[560px]">
        <thead>
          <tr>
            <th>Batch</th>
            <th>Goes out</th>
            <th className="n">People</th>
          </tr>
        </thead>
        <tbody>
          {batches.map((b) => (
            <tr key={b.n}>
              <td>{b.lead ? "lead" : b.n}</td>
              <td>{moment(b.due_at)}</td>
              <td className="n">{count(b.people)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}

/** Another program sends it: the batches are drawn and kept here, its event log tells what came of them. */
function Elsewhere({ c, people }: { c: M["Campaign"]; people: number }) {
  const client = useQueryClient();
  return (
    <Ask
      trigger={
        <button type="button" className="btn" disabled={!people}>
          Send it elsewhere…
        </button>
      }
      title={`Have another program send ${c.name}?`}
      words={`Draw the batches, ${count(people)} people`}
      act={async () => {
        await post(`/campaigns/${c.id}/start-elsewhere`);
        await client.invalidateQueries();
      }}
    >
      <p>
        The batches are drawn as planned and kept, and nothing is handed over from here. You save them as files and send
        them with the other program.
      </p>
      <p className="mt-2">
        Bring its event log back under the message name that the plan then shows, also while it sends: results,
        guardrails and the resend go by it. Permission is asked now and again each time you save the files.
      </p>
    </Ask>
  );
}
