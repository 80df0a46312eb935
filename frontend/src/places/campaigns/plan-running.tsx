import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post, put } from "../../api/client";
import { count, duration, moment, share } from "../../logic/format";
import type { Slot } from "../../logic/timeline";
import { Ask, BandBar, Page, Sentence, Sieve, StateTag, Waiting } from "../../parts/basics";
import { useFoot } from "../../parts/frame";
import { useMe } from "../../parts/me";
import type { CampaignProps } from "./campaign";
import { GuardrailList, HeldWhy } from "./guardrails";
import { Timeline } from "./timeline";
import { RefusedGroups, Unconfirmed } from "./unconfirmed";

/** Whether the batches may be set against each other, by the order they were drawn in. */
export const BATCHES_ARE: Record<M["PlanIn"]["order"], string> = {
  "most engaged first": "Later batches hold less engaged people, so their figures are no comparison.",
  "by lot": "The batches were drawn by lot: their figures differ by the hour and by chance.",
  "by time zone": "The batches hold people of different zones, so their figures are no comparison.",
};

export const useResults = (id: number, on: boolean) =>
  useQuery({
    queryKey: ["results", id],
    queryFn: () => get(`/campaigns/${id}/results`),
    enabled: on,
    placeholderData: keepPreviousData,
  });

/** What a batch is called: its number, whether it goes again, in which arm. */
export const batchLabel = (b: M["BatchLine"], lead: boolean) =>
  `${lead && b.n === 1 ? "lead" : b.n}${b.kind === "first" ? "" : b.kind === "resend" ? " again" : " once more"}${b.arm ? `, ${b.arm.toLowerCase()}` : ""}`;

/** The other program has a name of its own for the mailing. */
function LogCalls({ c }: { c: M["Campaign"] }) {
  const client = useQueryClient();
  const [name, setName] = useState(c.message_name);
  return (
    <Ask
      trigger={
        <button type="button" className="text-cornflower underline">
          its log calls it otherwise…
        </button>
      }
      title="What does its log call this mailing?"
      words="Keep the name"
      disabled={!name.trim()}
      act={async () => {
        await put(`/campaigns/${c.id}/message-name`, { name });
        await client.invalidateQueries();
      }}
    >
      As it stands in the column message. What was brought in under that name already counts for this plan.
      <label className="mt-3 block text-ink">
        <span className="label">Message name in the log</span>
        <input className="field" value={name} onChange={(e) => setName(e.target.value)} />
      </label>
    </Ask>
  );
}

export function RunningPlan({ c, head, acts }: CampaignProps) {
  const client = useQueryClient();
  const foot = useFoot().data;
  const now = foot?.now ?? 0;
  const analyst = useMe().role === "analyst";
  const [error, setError] = useState<Error | null>(null);
  const q = useResults(c.id, true);
  if (!q.data)
    return (
      <Page {...head} acts={acts}>
        <Waiting error={q.error} what="the batches" />
      </Page>
    );
  const r = q.data;
  const lead = c.plan.lead_share > 0;
  const label = (b: M["BatchLine"]) => batchLabel(b, lead);
  const slots: Slot[] = r.batches.map((b) => ({
    key: String(b.id),
    label: lead && b.n === 1 ? "lead" : String(b.n),
    due: b.due_at,
    people: b.people,
    state: b.state,
    resend: b.kind !== "first",
    lead: lead && b.n === 1,
    handed: b.handed,
  }));
  const save = async (e: React.MouseEvent<HTMLAnchorElement>) => {
    e.preventDefault();
    const file = e.currentTarget.href;
    setError(null);
    try {
      await post(`/campaigns/${c.id}/pass-over`);
      await client.invalidateQueries();
      window.location.assign(file);
    } catch (x) {
      setError(x as Error);
    }
  };
  const move = async (slot: Slot, due: number) => {
    setError(null);
    try {
      await post(`/campaigns/${c.id}/batches/${slot.key}/move`, { due_at: due });
      await client.invalidateQueries();
    } catch (e) {
      setError(e as Error);
    }
  };
  return (
    <Page
      {...head}
      acts={acts}
      side={
        <>
          <h2 className="mb-1">Who is in which batch</h2>
          <p className="mb-3 text-ink-2">{BATCHES_ARE[c.plan.order]}</p>
          {r.batches
            .filter((b) => b.people > 0)
            .map((b) => (
              <div key={b.id} className="mb-2 grid grid-cols-[78px_1fr_48px] items-center gap-2">
                <span>{b.kind !== "first" ? label(b) : label(b) === "lead" ? "Lead" : `Batch ${b.n}`}</span>
                <BandBar bands={b.bands} />
                <span className="text-right">{count(b.people)}</span>
              </div>
            ))}
          <GuardrailList id={c.id} state={c.state} />
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
      {c.elsewhere && (
        <p className="mb-4 border-y border-rule py-2.5">
          <b>Another program sends it.</b>{" "}
          <span className="text-ink-2">
            Bring its event log back under the message name “{c.message_name}”
            {analyst && (
              <>
                {" "}
                (<LogCalls c={c} />)
              </>
            )}
            ; so far it told of {count(r.handed)}. Whoever may not be mailed any more is left out of the files each time
            you save them.
          </span>{" "}
          <a
            className="text-cornflower underline"
            href={`/api/campaigns/${c.id}/batches.zip`}
            download
            onClick={analyst ? save : undefined}
          >
            Save the batches as files
          </a>
        </p>
      )}
      {foot?.relay && (
        <p className="mb-4 border-y border-rule py-3" role="status">
          <b className="text-poppy">The relay takes nothing since {moment(foot.relay.since)}.</b>{" "}
          <span className="text-ink-2">
            {foot.relay.meaning} {count(foot.relay.waiting)} due wait here and in other plans.
          </span>{" "}
          <Link className="text-cornflower underline" to="/senders/relay">
            See the relay
          </Link>
        </p>
      )}
      <Unconfirmed c={c} n={r.in_doubt} />
      <Sentence error={error} />
      <Timeline slots={slots} now={now} plan={c.plan} move={analyst ? move : undefined} />
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
                {b.late > 0 && (
                  <span className="ml-2 text-wheat">{duration(b.late)} late; later ones moved as much</span>
                )}
                {b.deferred > 0 && <span className="ml-2 text-wheat">{count(b.deferred)} deferred</span>}
              </td>
              <td className="n">
                {b.kind !== "first" && b.state === "waiting" && !b.people ? "as it comes" : count(b.people)}
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
      <RefusedGroups c={c} failed={r.failed} />
    </Page>
  );
}
