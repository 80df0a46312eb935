import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { count, duration, fromLocalInput, localInput, moment, share } from "../../logic/format";
import type { Slot } from "../../logic/timeline";
import { Ask, BandBar, Page, Sentence, Sieve, StateTag, Waiting } from "../../parts/basics";
import { useFoot } from "../../parts/frame";
import { type CampaignProps, chosenKey } from "./campaign";
import { useChecks } from "./checks";
import { GuardrailList, HeldWhy } from "./guardrails";
import { Limits } from "./plan-limits";
import { Timeline } from "./timeline";

export const useResults = (id: number, on: boolean) =>
  useQuery({
    queryKey: ["results", id],
    queryFn: () => get<M["Results"]>(`/campaigns/${id}/results`),
    enabled: on,
    placeholderData: keepPreviousData,
  });

export function PlanPage(props: CampaignProps) {
  return props.c.state === "draft" ? <DraftPlan {...props} /> : <RunningPlan {...props} />;
}

const HOUR = 3600,
  DAY = 86400;

function DraftPlan({ c, head, write }: CampaignProps) {
  const client = useQueryClient();
  const go = useNavigate();
  const now = useFoot().data?.now ?? 0;
  const [p, setP] = useState(c.plan);
  const [error, setError] = useState<Error | null>(null);
  const timer = useRef(0);
  const plan = useQuery({
    queryKey: ["plan", String(c.id)],
    queryFn: () => get<M["PlanView"]>(`/campaigns/${c.id}/plan`),
    placeholderData: keepPreviousData,
  });
  const whom = useQuery({
    queryKey: ["recipients", String(c.id), chosenKey(c)],
    queryFn: () => get<M["RecipientsView"]>(`/campaigns/${c.id}/recipients`),
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
    return p.resend
      ? [
          one,
          {
            ...one,
            key: `r${b.n}`,
            label: b.lead ? "lead" : String(b.n),
            due: b.due_at + p.wait,
            people: 0,
            resend: true,
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
            {batches.at(-1) ? moment(batches.at(-1)?.due_at ?? 0) : ""}.
          </p>
          {p.resend && (
            <p className="mt-2">
              Whoever has not answered {duration(p.wait)} after their batch gets it again
              {p.new_subject ? ", half of them under the new subject" : ""}; {share(p.held_share, 1, 0)} are held back
              by lot.
            </p>
          )}
          <p className="mt-2">You can hold it at any moment.</p>
        </Ask>
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
      <Sentence error={error ?? plan.error} />
      <Timeline slots={slots} now={now} />
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
          </select>
        </label>
      </div>
      <Limits p={p} set={set} providers={(whom.data?.providers ?? []).map((x) => x.words)} />
      <h2 className="mt-5 mb-2">Again, to those who leave it unanswered</h2>
      <div className="grid grid-cols-4 items-end gap-x-5 gap-y-3 max-[1000px]:grid-cols-2">
        <label className="flex items-center gap-2 pb-2">
          <input type="checkbox" checked={p.resend} onChange={(e) => set({ resend: e.target.checked })} /> Resend each
          batch
        </label>
        {p.resend && (
          <>
            {number("wait", p.wait, 0.5, DAY, 30, 0.1, "after a wait of", "days")}
            {number("held_share", p.held_share, 1, 0.01, 50, 0, "held back by lot", "% of them")}
            <label className="flex items-center gap-2 pb-2">
              <input
                type="checkbox"
                checked={p.machine_only}
                onChange={(e) => set({ machine_only: e.target.checked })}
              />{" "}
              also machine-only opens
            </label>
            <label className="col-span-4 max-[1000px]:col-span-2">
              <span className="label">
                New subject for half of them <span className="text-ink-3">empty: all get the same subject</span>
              </span>
              <input className="field" value={p.new_subject} onChange={(e) => set({ new_subject: e.target.value })} />
            </label>
          </>
        )}
      </div>
    </Page>
  );
}

function RunningPlan({ c, head, acts }: CampaignProps) {
  const client = useQueryClient();
  const now = useFoot().data?.now ?? 0;
  const q = useResults(c.id, true);
  if (!q.data)
    return (
      <Page {...head} acts={acts}>
        <Waiting error={q.error} what="the batches" />
      </Page>
    );
  const r = q.data;
  const lead = c.plan.lead_share > 0;
  const label = (b: M["BatchLine"]) => `${lead && b.n === 1 ? "lead" : b.n}${b.kind === "resend" ? " again" : ""}`;
  const slots: Slot[] = r.batches.map((b) => ({
    key: String(b.id),
    label: lead && b.n === 1 ? "lead" : String(b.n),
    due: b.due_at,
    people: b.people,
    state: b.state,
    resend: b.kind === "resend",
    lead: lead && b.n === 1,
    handed: b.handed,
  }));
  const settle = (arrived: boolean) => async () => {
    await post(`/campaigns/${c.id}/settle`, { arrived });
    await client.invalidateQueries();
  };
  return (
    <Page
      {...head}
      acts={acts}
      side={
        <>
          <h2 className="mb-1">Who is in which batch</h2>
          <p className="mb-3 text-ink-2">Later batches hold less engaged people, so their figures are no comparison.</p>
          {r.batches
            .filter((b) => b.people > 0)
            .map((b) => (
              <div key={b.id} className="mb-2 grid grid-cols-[78px_1fr_48px] items-center gap-2">
                <span>{b.kind === "resend" ? label(b) : label(b) === "lead" ? "Lead" : `Batch ${b.n}`}</span>
                <BandBar bands={b.bands} />
                <span className="text-right">{count(b.people)}</span>
              </div>
            ))}
          <GuardrailList id={c.id} />
          <h2 className="mt-5 mb-2">Why not</h2>
          <Sieve rows={r.why_not} />
          <p className="mt-4 flex gap-2">
            <a className="btn" href={`/api/campaigns/${c.id}/plan.ics`} download>
              The plan as a calendar
            </a>
          </p>
        </>
      }
    >
      <HeldWhy c={c} />
      {r.in_doubt > 0 && (
        <div className="mb-4 flex items-center justify-between gap-4 border-y border-rule py-3">
          <p>
            <b className="text-poppy">{count(r.in_doubt)} in doubt.</b>{" "}
            <span className="text-ink-2">
              The worker stopped between handing over and the relay's answer: they may or may not have it. The relay's
              log tells.
            </span>
          </p>
          <span className="flex gap-2">
            <Ask
              trigger={
                <button type="button" className="btn">
                  They arrived…
                </button>
              }
              title={`Count ${r.in_doubt} as handed over?`}
              words="They arrived"
              act={settle(true)}
            >
              They count as handed over from now on and get no second copy.
            </Ask>
            <Ask
              trigger={
                <button type="button" className="btn">
                  Send again…
                </button>
              }
              title={`Send to ${r.in_doubt} again?`}
              words="Send again"
              grave
              act={settle(false)}
            >
              Whoever got it already will have it twice.
            </Ask>
          </span>
        </div>
      )}
      <Timeline slots={slots} now={now} />
      <table className="lined mt-4">
        <thead>
          <tr>
            <th>Batch</th>
            <th>Goes out</th>
            <th>State</th>
            <th className="n">People</th>
            <th className="n">Handed over</th>
            <th className="n">Delivered</th>
            <th className="n">Opened</th>
            <th className="n">Clicked</th>
            <th className="n">Bounced</th>
          </tr>
        </thead>
        <tbody>
          {r.batches.map((b) => (
            <tr key={b.id}>
              <td className="font-semibold">{label(b)}</td>
              <td>{moment(b.due_at)}</td>
              <td>
                <StateTag state={b.state} />
                {b.state === "going out" && b.people > 0 && (
                  <span className="ml-2 text-cornflower">{share(b.handed, b.people, 0)}</span>
                )}
                {b.deferred > 0 && <span className="ml-2 text-wheat">{count(b.deferred)} deferred</span>}
              </td>
              <td className="n">
                {b.kind === "resend" && b.state === "waiting" && !b.people ? "as it comes" : count(b.people)}
              </td>
              <td className="n">{b.handed ? count(b.handed) : "–"}</td>
              <td className="n">{b.handed ? count(b.delivered) : "–"}</td>
              <td className="n">{b.handed ? share(b.opened, b.delivered) : "–"}</td>
              <td className="n">{b.handed ? share(b.clicked, b.delivered) : "–"}</td>
              <td className="n">{b.handed ? share(b.bounced, b.handed) : "–"}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-2 text-[13px] text-ink-2">
        Opened and clicked are people, of those delivered; as of {moment(r.as_of)}.
      </p>
    </Page>
  );
}
