import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post, put } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { useStatus } from "../../api/status";
import { count, duration, share } from "../../logic/format";
import type { Slot } from "../../logic/timeline";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { BandBar } from "../../parts/bands";
import { Exclusions } from "../../parts/exclusions";
import { ObservedWords } from "../../parts/expected";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence, Waiting } from "../../parts/waiting";
import type { CampaignProps } from "./campaign";
import { GuardrailList, PausedWhy } from "./guardrails";
import { Timeline } from "./timeline";
import { RefusedGroups, Unconfirmed } from "./unconfirmed";

/** Whether the batches may be set against each other, by the order they were drawn in. */
export const BATCHES_ARE: Record<M["Plan"]["order"], string> = {
  "most engaged first": "Later batches are less engaged, so do not compare them.",
  "at random": "Batches are random: differences come from the hour and chance.",
  "by time zone": "Batches are of different time zones, so do not compare them.",
};

export const useResults = (id: number, on: boolean) =>
  useQuery({
    queryKey: keys.results(id),
    queryFn: () => get(`/campaigns/${id}/results`),
    enabled: on,
    placeholderData: keepPreviousData,
  });

/** What a batch is called: its number, whether it goes again, in which variant. */
export const batchLabel = (b: M["BatchLine"], pilot: boolean) =>
  `${pilot && b.n === 1 ? "pilot" : b.n}${b.kind === "first" ? "" : b.kind === "resend" ? " resend" : " second resend"}${b.variant ? `, ${b.variant.toLowerCase()}` : ""}`;

/** The other program has a name of its own for the mailing. */
function LogCalls({ c }: { c: M["Campaign"] }) {
  const client = useQueryClient();
  const [name, setName] = useState(c.message_name);
  return (
    <Ask
      trigger={
        <button type="button" className="text-cornflower underline">
          different name in the log…
        </button>
      }
      title="Message name in the event log"
      words="Save name"
      disabled={!name.trim()}
      act={async () => {
        await put(`/campaigns/${c.id}/message-name`, { name });
        await changedIn(client, "campaigns");
      }}
    >
      As in the “message” column. Events already imported under that name count for this campaign.
      <label className="mt-3 block text-ink">
        <span className="label">Message name in the log</span>
        <input className="field" value={name} onChange={(e) => setName(e.target.value)} />
      </label>
    </Ask>
  );
}

export function RunningPlan({ c, head, acts }: CampaignProps) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const foot = useStatus().data;
  const now = foot?.now ?? 0;
  const analyst = useMe().role === "analyst";
  const { run, error } = useAction();
  const q = useResults(c.id, true);
  if (!q.data)
    return (
      <Page {...head} acts={acts}>
        <Waiting error={q.error} what="the batches" />
      </Page>
    );
  const r = q.data;
  const pilot = c.plan.pilot_share > 0;
  const label = (b: M["BatchLine"]) => batchLabel(b, pilot);
  const slots: Slot[] = r.batches.map((b) => ({
    key: String(b.id),
    label: pilot && b.n === 1 ? "pilot" : String(b.n),
    due: b.due_at,
    people: b.people,
    state: b.state,
    resend: b.kind !== "first",
    pilot: pilot && b.n === 1,
    sent: b.sent,
  }));
  const save = async (e: React.MouseEvent<HTMLAnchorElement>) => {
    e.preventDefault();
    const file = e.currentTarget.href;
    await run(async () => {
      await post(`/campaigns/${c.id}/skip`);
      await changedIn(client, "campaigns");
      window.location.assign(file);
    });
  };
  const move = async (slot: Slot, due: number) => {
    await run(async () => {
      await post(`/campaigns/${c.id}/batches/${slot.key}/move`, { due_at: due });
      await changedIn(client, "campaigns");
    });
  };
  return (
    <Page
      {...head}
      acts={acts}
      side={
        <>
          <h2 className="mb-1">Download batches</h2>
          <p className="mb-3 text-ink-2">{BATCHES_ARE[c.plan.order]}</p>
          {r.batches
            .filter((b) => b.people > 0)
            .map((b) => (
              <div key={b.id} className="mb-2 grid grid-cols-[78px_1fr_48px] items-center gap-2">
                <span>{b.kind !== "first" ? label(b) : label(b) === "pilot" ? "Pilot" : `Batch ${b.n}`}</span>
                <BandBar bands={b.bands} />
                <span className="text-right">{count(b.people)}</span>
              </div>
            ))}
          <GuardrailList id={c.id} state={c.state} />
          <h2 className="mt-5 mb-2">Exclusions</h2>
          <Exclusions rows={r.why_not} />
          <p className="mt-4 flex gap-2">
            <a className="btn" href={`/api/campaigns/${c.id}/plan.ics`} download>
              Download calendar (.ics)
            </a>
          </p>
        </>
      }
    >
      <PausedWhy c={c} />
      {r.observed && <ObservedWords of={r.observed} />}
      {c.external && (
        <p className="mb-4 border-y border-rule py-2.5">
          <b>Sent with another system.</b>{" "}
          <span className="text-ink-2">
            Import its event log with the message name “{c.message_name}”
            {analyst && (
              <>
                {" "}
                (<LogCalls c={c} />)
              </>
            )}
            ; so far it reports {count(r.sent)} sent. People who may no longer be mailed are left out each time you
            download the files.
          </span>{" "}
          <a
            className="text-cornflower underline"
            href={`/api/campaigns/${c.id}/batches.zip`}
            download
            onClick={analyst ? save : undefined}
          >
            Download batch files
          </a>
        </p>
      )}
      {foot?.relay && (
        <p className="mb-4 border-y border-rule py-3" role="status">
          <b className="text-poppy">The relay has accepted no mail since {moment(foot.relay.since)}.</b>{" "}
          <span className="text-ink-2">
            {foot.relay.meaning} {count(foot.relay.waiting)} due are queued here and in other campaigns.
          </span>{" "}
          <Link className="text-cornflower underline" to="/senders/relay">
            View relay
          </Link>
        </p>
      )}
      <Unconfirmed c={c} n={r.unconfirmed} />
      <Sentence error={error} />
      <Timeline slots={slots} now={now} plan={c.plan} move={analyst ? move : undefined} />
      <Table label="Batches" className="mt-4">
        <thead>
          <tr>
            <th scope="col">Batch</th>
            <th scope="col">Scheduled</th>
            <th scope="col">State</th>
            <th scope="col" className="n">
              Recipients
            </th>
            <th scope="col" className="n">
              Sent
            </th>
            <th scope="col" className="n">
              Delivered
            </th>
            <th scope="col" className="n">
              Opened
            </th>
            <th scope="col" className="n">
              Clicked
            </th>
            <th scope="col" className="n">
              Bounced
            </th>
          </tr>
        </thead>
        <tbody>
          {r.batches.map((b) => (
            <tr key={b.id}>
              <td className="font-semibold">{label(b)}</td>
              <td>{moment(b.due_at)}</td>
              <td>
                <StateTag state={b.state} />
                {b.state === "sending" && b.people > 0 && (
                  <span className="ml-2 text-cornflower">{share(b.sent, b.people, 0)}</span>
                )}
                {b.late > 0 && (
                  <span className="ml-2 text-wheat">{duration(b.late)} late; later batches moved by the same time</span>
                )}
                {b.deferred > 0 && <span className="ml-2 text-wheat">{count(b.deferred)} deferred</span>}
              </td>
              <td className="n">
                {b.kind !== "first" && b.state === "scheduled" && !b.people ? "as it comes" : count(b.people)}
              </td>
              <td className="n">{b.sent ? count(b.sent) : "–"}</td>
              <td className="n">{b.sent ? count(b.delivered) : "–"}</td>
              <td className="n">{b.sent ? share(b.opened, b.delivered) : "–"}</td>
              <td className="n">{b.sent ? share(b.clicked, b.delivered) : "–"}</td>
              <td className="n">{b.sent ? share(b.bounced, b.sent) : "–"}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <p className="mt-2 text-small text-ink-2">Opens and clicks: human, of delivered, as of {moment(r.as_of)}.</p>
      <RefusedGroups c={c} failed={r.failed} />
    </Page>
  );
}
