import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { useStatus } from "../../api/status";
import { count, duration, share } from "../../logic/format";
import type { Slot } from "../../logic/timeline";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { BandBar } from "../../parts/bands";
import { useDelayed } from "../../parts/delayed";
import { Exclusions } from "../../parts/exclusions";
import { Expected, ExpectedBy, range } from "../../parts/expected";
import { Choice, NumberField } from "../../parts/labelled";
import { useLater } from "../../parts/later";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence, Waiting } from "../../parts/waiting";
import { Approval } from "./approval";
import { type CampaignProps, chosenKey } from "./campaign";
import { useChecks } from "./checks";
import { Limits } from "./schedule-limits";
import { BestHour, ResendPlan, Trial } from "./schedule-resend";
import { RunningPlan } from "./schedule-running";
import { Timeline } from "./timeline";

export function PlanPage(props: CampaignProps) {
  return props.c.state === "draft" ? <DraftPlan {...props} /> : <RunningPlan {...props} />;
}

const HOUR = 3600;
const ORDERS: [M["Plan"]["order"], string][] = [
  ["most engaged first", "most engaged first"],
  ["at random", "random"],
  ["by time zone", "by time zone"],
];

function DraftPlan({ c, head, write }: CampaignProps) {
  const { fromLocalInput, localInput, moment, zone } = useTimes();
  const client = useQueryClient();
  const go = useNavigate();
  const now = useStatus().data?.now ?? 0;
  const [p, setP] = useState(c.plan);
  const { run, error } = useAction();
  const saved = useLater((values: { plan: M["Plan"] }) => run(() => write(values)), 250);
  const plan = useQuery({
    queryKey: keys.schedule(c.id),
    queryFn: () => get(`/campaigns/${c.id}/schedule`),
    placeholderData: keepPreviousData,
  });
  const whom = useQuery({
    queryKey: keys.recipients(c.id, chosenKey(c)),
    queryFn: () => get(`/campaigns/${c.id}/recipients`),
  });
  const set = (values: Partial<M["Plan"]>) => {
    const next = { ...p, ...values };
    setP(next);
    saved.later({ plan: next });
  };
  const batches = plan.data?.batches ?? [];
  const total = batches.reduce((a, b) => a + b.people, 0);
  const slots: Slot[] = batches.flatMap((b) => {
    const one: Slot = {
      key: `f${b.n}`,
      label: b.pilot ? "pilot" : String(b.n),
      due: b.due_at,
      people: b.people,
      state: "scheduled",
      resend: false,
      pilot: b.pilot,
      sent: 0,
    };
    return b.again_at
      ? [
          one,
          {
            ...one,
            key: `r${b.n}`,
            label: b.pilot ? "pilot" : String(b.n),
            due: b.again_at,
            people: 0,
            resend: true,
            fixed: true,
          },
        ]
      : [one];
  });
  const late = useDelayed(saved.busy || plan.isFetching, 200);
  const behind = late && (saved.busy || plan.isFetching);
  const checked = useChecks(c.id, true);
  const stops = (checked.data?.checks ?? c.checks).filter((x) => x.level === "blocker" && !x.overridden);
  return (
    <Page
      {...head}
      acts={
        <>
          <Approval c={c} />
          <May to="decide">
            <ExternalSending c={c} people={total} />
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
              words={`Start sending to ${count(total)} people`}
              act={async () => {
                if (!(await saved.flush()))
                  throw new Error("Nothing was started: your last change of the plan was not saved.");
                await post(`/campaigns/${c.id}/start`);
                await changedIn(client, "campaigns");
                offerUndo({
                  words: `“${c.name}” started.`,
                  undo: async () => {
                    await post(`/campaigns/${c.id}/undo-start`);
                    await changedIn(client, "campaigns");
                  },
                });
                go(`/campaigns/${c.id}/schedule`);
              }}
            >
              <p>
                {count(total)} people receive “{c.subject}” from {c.from_text}, in {batches.length}{" "}
                {batches.length === 1 ? "batch" : "batches"} from {batches[0] ? moment(batches[0].due_at) : ""} to{" "}
                {batches.at(-1) ? moment(batches.at(-1)?.due_at ?? 0) : ""} ({zone}).
              </p>
              {p.resend && (
                <p className="mt-2">
                  People who {p.resend_rule === "not engaged" ? "have not engaged" : "opened but did not click"}{" "}
                  {duration(p.wait)} after their batch get a resend
                  {(plan.data?.variants.length ?? 1) > 1 ? ` in ${plan.data?.variants.length} random variants` : ""};{" "}
                  {share(p.holdout_share, 1, 0)} are a holdout group.
                </p>
              )}
              {p.test && (
                <p className="mt-2">
                  The pilot batch is an A/B test; the rest depends on {p.test.figure} after {duration(p.test.wait)}.
                </p>
              )}
              <p className="mt-2">You can pause at any time.</p>
            </Ask>
          </May>
        </>
      }
      side={
        <>
          <h2 className="mb-1">Batches</h2>
          <p className="mb-3 text-ink-2">
            The pilot batch is a random sample of every band, so its results are representative.{" "}
            {p.order === "at random" ? "The others follow in random order." : "Then the most engaged first."} Consent is
            rechecked before every send.
          </p>
          {batches.map((b) => (
            <div key={b.n} className="mb-2 grid grid-cols-[52px_1fr_48px_96px] items-center gap-2">
              <span>{b.pilot ? "Pilot" : `Batch ${b.n}`}</span>
              <BandBar bands={b.bands} />
              <span className="text-right">{count(b.people)}</span>
              <span className="whitespace-nowrap text-right text-ink-2" title="expected to engage">
                {range(b.expected.low, b.expected.high)}
              </span>
            </div>
          ))}
          {batches.length > 0 && <p className="text-right text-small text-ink-2">people; of them expected to engage</p>}
          {plan.data && (
            <>
              <Expected of={plan.data.expected} />
              {plan.data.expected.people > 0 && (
                <details className="mt-1 text-small">
                  <summary className="cursor-pointer text-cornflower">By band and provider</summary>
                  <ExpectedBy title="band" of={plan.data.expected_by_band} />
                  <ExpectedBy title="provider" of={plan.data.expected_by_provider} />
                </details>
              )}
            </>
          )}
          {plan.data?.note && <p className="mt-2 text-wheat">{plan.data.note}</p>}
          <May to="write">
            <BestHour best={plan.data?.best ?? null} p={p} set={set} />
          </May>
          <h2 className="mt-5 mb-2">Recipients</h2>
          {whom.data ? (
            <Exclusions rows={whom.data.exclusions} />
          ) : (
            <Waiting error={whom.error} what="the recipients" />
          )}
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
        <div className={behind ? "dimmed" : ""}>
          <Timeline
            slots={slots}
            now={now}
            plan={p}
            move={(slot, due) => set({ moved: { ...p.moved, [slot.key.slice(1)]: due } })}
          />
        </div>
        <p role="status" className="h-5 text-small text-ink-2">
          {behind ? "Working out what this changes…" : ""}
        </p>
        {Object.keys(p.moved).length > 0 && (
          <p className="mt-1 text-small text-ink-2">
            {Object.keys(p.moved).length === 1 ? "One batch was" : `${Object.keys(p.moved).length} batches were`}{" "}
            rescheduled manually.{" "}
            <button type="button" className="btn btn-bare py-0" onClick={() => set({ moved: {} })}>
              Reset intervals
            </button>
          </p>
        )}
        <div className="mt-4 grid grid-cols-[1fr_1.25fr_1fr_1fr_1.2fr] gap-x-5 gap-y-3 max-tablet:grid-cols-2">
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
          <NumberField
            label="Pilot batch, random"
            value={p.pilot_share}
            set={(pilot_share) => set({ pilot_share })}
            unit="% of people"
            min={0}
            max={50}
            scale={0.01}
          />
          <NumberField
            label="Then"
            value={p.batches}
            set={(batches) => set({ batches })}
            unit={p.batches === 1 ? "batch" : "batches"}
            min={1}
            max={100}
          />
          <NumberField
            label="every"
            value={p.interval}
            set={(interval) => set({ interval })}
            unit="hours"
            min={0.1}
            max={720}
            step={0.5}
            scale={HOUR}
          />
          <Choice label="Order" value={p.order} set={(order) => set({ order })} of={ORDERS} />
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
  const { moment } = useTimes();
  if (batches.length < 2) return null;
  return (
    <details className="mt-6">
      <summary className="cursor-pointer text-cornflower">Batches as a table</summary>
      <Table label="Batches" className="mt-1 max-w-[560px]">
        <thead>
          <tr>
            <th scope="col">Batch</th>
            <th scope="col">Scheduled</th>
            <th scope="col" className="n">
              Recipients
            </th>
          </tr>
        </thead>
        <tbody>
          {batches.map((b) => (
            <tr key={b.n}>
              <td>{b.pilot ? "pilot" : b.n}</td>
              <td>{moment(b.due_at)}</td>
              <td className="n">{count(b.people)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </details>
  );
}

/** Another system sends it: the batches are drawn here, and its event log reports what came of them. */
function ExternalSending({ c, people }: { c: M["Campaign"]; people: number }) {
  const client = useQueryClient();
  return (
    <Ask
      trigger={
        <button type="button" className="btn" disabled={!people}>
          Send with another system…
        </button>
      }
      title={`Send ${c.name} with another system?`}
      words={`Create batches for ${count(people)} people`}
      act={async () => {
        await post(`/campaigns/${c.id}/start-external`);
        await changedIn(client, "campaigns");
      }}
    >
      <p>
        The batches are created as scheduled, and nothing is sent from here. Download them as files and send them with
        the other system.
      </p>
      <p className="mt-2">
        Import its event log with the message name shown then, also while it sends: results, guardrails and the resend
        use it. Consent is checked now and each time you download the files.
      </p>
    </Ask>
  );
}
