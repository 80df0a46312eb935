import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { get, type M, post, put } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count, people, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { useDelayed } from "../../parts/delayed";
import { Form } from "../../parts/form";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence, Waiting } from "../../parts/waiting";
import { SubscriberTabs } from "./tabs";

const ACTS = new Set(["first win-back", "click request", "further win-back", "suppress"]);

/** What happens to people who stop: the standing agreement, this week's people, and what it saves. */
export function CleanUpPage() {
  const { moment } = useTimes();
  const me = useMe();
  const client = useQueryClient();
  const q = useQuery({ queryKey: keys.sunsetPolicy(), queryFn: () => get("/sunset-policy?rough=true") });
  const isRough = (q.data?.saving_off ?? 0) > 0;
  const whole = useQuery({
    queryKey: [...keys.sunsetPolicy(), "whole"],
    queryFn: () => get("/sunset-policy"),
    enabled: isRough,
  });
  const [wish, setWish] = useState<M["SunsetIn"] | null>(null);
  const wanted = useDelayed(wish, 300);
  const trial = useQuery({
    queryKey: [...keys.sunsetTrial(wanted), Boolean(whole.data)], // an estimate is asked for again once all is known
    queryFn: ({ signal }) => post("/sunset-policy/trial", wanted ?? undefined, signal),
    enabled: wanted !== null,
    placeholderData: keepPreviousData,
    retry: false,
  });
  const kept = isRough ? (whole.data ?? q.data) : q.data;
  const d = wish && trial.data ? { ...trial.data, active: kept?.active ?? false } : kept;
  if (!d || !kept)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Waiting error={q.error} what="who has stopped" />
      </Page>
    );
  const due = d.groups.filter((g) => ACTS.has(g.step)).reduce((n, g) => n + g.count, 0);
  const closes = d.groups.filter((g) => !ACTS.has(g.step) && g.step !== "waiting").reduce((n, g) => n + g.count, 0);
  const stop = d.patterns.find((p) => p.stop)?.stop;
  const of = (step: string) => d.groups.find((g) => g.step === step)?.count ?? 0;
  const analyst = me.role === "analyst";
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead={
        d.active
          ? `Policy: ${kept.sentence}.`
          : "No policy yet. Until you turn one on, nothing happens to inactive subscribers."
      }
      side={<Side d={d} kept={kept} analyst={analyst} wish={setWish} problem={wish ? trial.error : null} />}
    >
      <div className="mb-2 flex items-baseline justify-between gap-4">
        <h2>
          {wish ? "This week, with your changes" : d.active ? "This week" : "Preview for this week"}
          <span className="ml-2 font-sans text-small font-normal text-ink-2">
            {wish
              ? trial.isFetching
                ? "being worked out"
                : "not saved yet"
              : d.automatic && d.active
                ? d.next_at
                  ? `runs automatically, next on ${moment(d.next_at)}`
                  : "runs automatically within a minute"
                : d.ran_at
                  ? `last run ${moment(d.ran_at)}`
                  : "not run yet"}
          </span>
        </h2>
        {analyst && d.active && !wish && (
          <Ask
            trigger={
              <button type="button" className="btn btn-main" disabled={!due && !closes}>
                Run this week…
              </button>
            }
            title="Run the sunset policy for this week?"
            words="Run policy"
            disabled={Boolean(stop)}
            act={async () => {
              const done = await post("/sunset-policy/run");
              await peopleChanged(client);
              if (done.action)
                offerUndo({
                  words: `${people(done.counts.suppress ?? 0)} suppressed.`,
                  undo: async () => {
                    await post(`/activity/${done.action}/undo`);
                    await peopleChanged(client);
                  },
                });
            }}
          >
            {stop ? (
              <span className="text-poppy">{stop}</span>
            ) : (
              <ul className="list-disc pl-4">
                <li>{people(of("first win-back") + of("further win-back"))} get a win-back email now.</li>
                <li>{people(of("click request"))} are asked for a click.</li>
                <li>{people(of("suppress"))} are suppressed; you can undo that.</li>
                {closes > 0 && <li>{people(closes)} leave the sunset policy.</li>}
              </ul>
            )}
          </Ask>
        )}
      </div>
      {d.groups.map((g) => (
        <Group key={g.step} g={g} />
      ))}
      <p className="mt-3 max-w-[75ch] text-small text-ink-2">
        Of {people(d.stopped)} Inactive or Masked for that long, {count(d.protected)} have booked or replied before and
        are never suppressed. Anyone who may not be mailed for {d.purpose || "the purpose"} is not mailed and not
        changed.
      </p>
      <Suppressed />
    </Page>
  );
}

function Group({ g }: { g: M["SunsetGroup"] }) {
  const { day } = useTimes();
  return (
    <details className="border-b border-rule py-2" open={false}>
      <summary className="flex cursor-pointer items-baseline gap-3">
        <span className="w-[68px] shrink-0 text-right font-semibold">{count(g.count)}</span>
        <span className="w-[150px] shrink-0 font-semibold">{g.step}</span>
        <span className="text-ink-2">{g.words}</span>
      </summary>
      {g.people.length > 0 ? (
        <Table label="People under the policy" className="mt-2 ml-[80px] w-[calc(100%-80px)]! text-small">
          <thead>
            <tr>
              <th scope="col">Person</th>
              <th scope="col">Last engaged</th>
              <th scope="col" className="n">
                Win-backs sent
              </th>
              <th scope="col">If no engagement</th>
            </tr>
          </thead>
          <tbody>
            {g.people.map((p) => (
              <tr key={p.id}>
                <td>
                  <Link className="hover:underline" to={`/subscribers/${p.id}`}>
                    {p.email}
                  </Link>
                </td>
                <td className="text-ink-2">{p.last_engaged ? day(p.last_engaged) : "never"}</td>
                <td className="n">{p.tries}</td>
                <td className="text-ink-2">
                  {p.suppress_at === null
                    ? "stay"
                    : g.step === "suppress"
                      ? "now"
                      : `suppressed on ${day(p.suppress_at)}`}
                </td>
              </tr>
            ))}
            {g.count > g.people.length && (
              <tr>
                <td colSpan={4} className="text-ink-2">
                  and {count(g.count - g.people.length)} more
                </td>
              </tr>
            )}
          </tbody>
        </Table>
      ) : (
        <p className="mt-1 ml-[80px] text-small text-ink-2">No one this week.</p>
      )}
    </details>
  );
}

function Suppressed() {
  const { day } = useTimes();
  const q = useQuery({
    queryKey: keys.suppressions("inactive"),
    queryFn: () => get("/suppressions?reason=inactive"),
  });
  const total = q.data?.counts.find((c) => c.words === "inactive")?.count ?? 0;
  return (
    <>
      <h2 className="mt-6 mb-1">Suppressed as inactive: {count(total)}</h2>
      {total > 0 && (
        <>
          <Table label="Suppressed as inactive">
            <tbody>
              {q.data?.rows.slice(0, 10).map((r) => (
                <tr key={r.subscriber}>
                  <td>
                    <Link className="hover:underline" to={`/subscribers/${r.subscriber}`}>
                      {r.email}
                    </Link>
                  </td>
                  <td className="whitespace-nowrap text-ink-2">{day(r.at)}</td>
                  <td className="text-ink-2">{r.source}</td>
                </tr>
              ))}
            </tbody>
          </Table>
          <p className="mt-1 text-small text-ink-2">
            Only a new opt-in of their own lifts this.{" "}
            <Link
              className="text-cornflower underline"
              to={`/subscribers/table?rule=${encodeURIComponent('suppressed for "inactive"')}`}
            >
              Show all in the table
            </Link>
          </p>
        </>
      )}
    </>
  );
}

const MEASURES: [string, string][] = [
  ["messages", "messages"],
  ["complaints", "complaints"],
  ["hard bounces", "hard bounces"],
  ["engagements", "engagements"],
  ["bookings", "bookings"],
];

function Side({
  d,
  kept,
  analyst,
  wish,
  problem,
}: {
  d: M["SunsetView"];
  kept: M["SunsetView"];
  analyst: boolean;
  wish: (w: M["SunsetIn"] | null) => void;
  problem: Error | null;
}) {
  return (
    <>
      <h2>Policy</h2>
      {analyst ? (
        <Agree key={kept.sentence + kept.purpose} d={kept} wish={wish} problem={problem} />
      ) : (
        <p className="mt-1 text-ink-2">{kept.sentence}.</p>
      )}
      <h2 className="mt-6">Estimated effect</h2>
      <p className="mb-1 text-small text-ink-2">
        The sends of the last 12 months, replayed without people who had not engaged for {d.after_days} days with five
        or more ignored.
      </p>
      {d.saving_off > 0 && (
        <p role="status" className="mb-1 text-small text-ink-2">
          From one person in eight (± {share(d.saving_off, 1, 1)}) while all sends are replayed…
        </p>
      )}
      <Table label="Estimated effect">
        <tbody>
          {MEASURES.map(([key, words]) => {
            const s = d.saving[key];
            return (
              s && (
                <tr key={key}>
                  <td>{words}</td>
                  <td className="n">{count(Math.round(s.beyond))}</td>
                  <td className="n text-ink-2">{share(s.beyond, s.all)}</td>
                </tr>
              )
            );
          })}
        </tbody>
      </Table>
      <p className="mt-1 text-small text-ink-2">
        Rates are of all sends of the year. Engagements and bookings are what you would lose.
      </p>
      {d.active && (
        <>
          <h2 className="mt-6">Emails used</h2>
          {d.patterns.map((p) => (
            <p key={p.name} className="mt-1">
              {p.id ? (
                <Link className="text-cornflower underline" to={`/campaigns/${p.id}/message`}>
                  {p.name}
                </Link>
              ) : (
                p.name
              )}
              {p.stop && <span className="block text-small text-poppy">{p.stop}</span>}
            </p>
          ))}
        </>
      )}
      {Object.keys(d.outcomes).length > 0 && (
        <>
          <h2 className="mt-6">Results</h2>
          <Table label="Results">
            <tbody>
              {Object.entries(d.outcomes).map(([words, n]) => (
                <tr key={words}>
                  <td>{words}</td>
                  <td className="n">{count(n)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </>
  );
}

function Agree({
  d,
  wish,
  problem,
}: {
  d: M["SunsetView"];
  wish: (w: M["SunsetIn"] | null) => void;
  problem: Error | null;
}) {
  const client = useQueryClient();
  const [after, setAfter] = useState(d.after_days);
  const [tries, setTries] = useState(d.tries);
  const [wait, setWait] = useState(d.wait_days);
  const [masked, setMasked] = useState(d.ask_masked);
  const [automatic, setAutomatic] = useState(d.automatic);
  const [purpose, setPurpose] = useState(d.purpose);
  const { run, error } = useAction();
  const wanted = { after_days: after, tries, wait_days: wait, ask_masked: masked, automatic, purpose };
  const same = (Object.keys(wanted) as (keyof typeof wanted)[]).every((k) => wanted[k] === d[k]);
  const text = same ? "" : JSON.stringify(wanted);
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what is chosen counts
  useEffect(() => wish(text ? JSON.parse(text) : null), [text]);
  const number = (words: string, value: number, set: (n: number) => void, tail: string, step = 1) => (
    <label className="mt-1.5 flex items-center gap-2">
      <span className="w-[36px] shrink-0 text-ink-2">{words}</span>
      <input
        className="field w-[72px]! shrink-0"
        type="number"
        step={step}
        value={value}
        onChange={(e) => setAfterNumber(set, e.target.value)}
      />
      <span>{tail}</span>
    </label>
  );
  return (
    <Form
      className="mt-1"
      act={async () => {
        await run(async () => {
          const fresh = await put("/sunset-policy", wanted);
          wish(null);
          client.setQueryData(keys.sunsetPolicy(), fresh);
        });
      }}
    >
      {number("After", after, setAfter, "days without engagement", 5)}
      {number("try", tries, setTries, tries === 1 ? "time" : "times")}
      {number("wait", wait, setWait, "days between, and before suppression")}
      <label className="mt-2 block">
        <span className="label">Win-back purpose</span>
        <select className="field" value={purpose} onChange={(e) => setPurpose(e.target.value)}>
          {d.purposes.map((p) => (
            <option key={p}>{p}</option>
          ))}
        </select>
      </label>
      <label className="mt-2 flex items-baseline gap-2">
        <input type="checkbox" checked={masked} onChange={(e) => setMasked(e.target.checked)} />
        Ask Masked subscribers for a click; otherwise leave them out
      </label>
      <label className="mt-1 flex items-baseline gap-2">
        <input type="checkbox" checked={automatic} onChange={(e) => setAutomatic(e.target.checked)} />
        Run automatically every week
      </label>
      <Sentence error={error ?? problem} />
      <button type="submit" className="btn mt-3">
        {d.active ? "Save policy" : "Turn on policy"}
      </button>
    </Form>
  );
}

function setAfterNumber(set: (n: number) => void, text: string) {
  set(Number(text) || 0);
}
