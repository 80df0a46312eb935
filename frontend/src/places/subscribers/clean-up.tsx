import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post, put } from "../../api/client";
import { count, day, moment, people, share } from "../../logic/format";
import { Ask, Page, Sentence, Waiting } from "../../parts/basics";
import { offerUndo, useMe } from "../../parts/me";
import { SubscriberTabs } from "./tabs";

const ACTS = new Set(["first try", "asked for a click", "another try", "let go"]);

/** What happens to people who stop: the standing agreement, this week's people, and what it saves. */
export function CleanUpPage() {
  const me = useMe();
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["clean-up"], queryFn: () => get("/clean-up") });
  const d = q.data;
  if (!d)
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
        d.agreed
          ? `Agreed: ${d.sentence}.`
          : "Nothing is agreed yet. Say what is to happen to people who stop; until you agree, nothing happens to anybody."
      }
      side={<Side d={d} analyst={analyst} />}
    >
      <div className="mb-2 flex items-baseline justify-between gap-4">
        <h2>
          {d.agreed ? "This week" : "This week, if it were agreed"}
          <span className="ml-2 font-sans text-[13px] font-normal text-ink-2">
            {d.by_itself && d.agreed
              ? d.next_at
                ? `runs by itself, next on ${moment(d.next_at)}`
                : "runs by itself within the minute"
              : d.ran_at
                ? `last done ${moment(d.ran_at)}`
                : "not done yet"}
          </span>
        </h2>
        {analyst && d.agreed && (
          <Ask
            trigger={
              <button type="button" className="btn btn-main" disabled={!due && !closes}>
                Do this week…
              </button>
            }
            title="Do what is due this week?"
            words="Do it"
            disabled={Boolean(stop)}
            act={async () => {
              const done = await post("/clean-up/run");
              await client.invalidateQueries();
              if (done.deed)
                offerUndo({
                  words: `${people(done.counts["let go"] ?? 0)} let go.`,
                  undo: async () => {
                    await post(`/activity/${done.deed}/undo`);
                    await client.invalidateQueries();
                  },
                });
            }}
          >
            {stop ? (
              <span className="text-poppy">{stop}</span>
            ) : (
              <ul className="list-disc pl-4">
                <li>{people(of("first try") + of("another try"))} get the win-back, at once.</li>
                <li>{people(of("asked for a click"))} are asked for a click.</li>
                <li>{people(of("let go"))} are let go; that can be taken back.</li>
                {closes > 0 && <li>{people(closes)} leave the clean-up.</li>}
              </ul>
            )}
          </Ask>
        )}
      </div>
      {d.groups.map((g) => (
        <Group key={g.step} g={g} />
      ))}
      <p className="mt-3 max-w-[75ch] text-[13px] text-ink-2">
        Of {people(d.stopped)} Silent or Veiled for so long, {count(d.protected)} have booked or replied once: they are
        never let go. Whoever is not permitted for {d.purpose || "the purpose"} is not mailed, and stays untouched.
      </p>
      <LetGo />
    </Page>
  );
}

function Group({ g }: { g: M["CleanUpGroup"] }) {
  return (
    <details className="border-b border-rule py-2" open={false}>
      <summary className="flex cursor-pointer items-baseline gap-3">
        <span className="w-[68px] shrink-0 text-right font-semibold">{count(g.count)}</span>
        <span className="w-[150px] shrink-0 font-semibold">{g.step}</span>
        <span className="text-ink-2">{g.words}</span>
      </summary>
      {g.people.length > 0 ? (
        <table className="lined mt-2 ml-[80px] w-[calc(100%-80px)]! text-[13px]">
          <thead>
            <tr>
              <th>Person</th>
              <th>Last answer</th>
              <th className="n">Tries so far</th>
              <th>If they stay silent</th>
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
                <td className="text-ink-2">{p.last_answer ? day(p.last_answer) : "never"}</td>
                <td className="n">{p.tries}</td>
                <td className="text-ink-2">
                  {p.let_go_at === null ? "stay" : g.step === "let go" ? "now" : `let go on ${day(p.let_go_at)}`}
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
        </table>
      ) : (
        <p className="mt-1 ml-[80px] text-[13px] text-ink-2">Nobody this week.</p>
      )}
    </details>
  );
}

function LetGo() {
  const q = useQuery({
    queryKey: ["suppressions", "let go"],
    queryFn: () => get("/suppressions?reason=let%20go"),
  });
  const total = q.data?.counts.find((c) => c.words === "let go")?.count ?? 0;
  return (
    <>
      <h2 className="mt-6 mb-1">Let go so far: {count(total)}</h2>
      {total > 0 && (
        <>
          <table className="lined">
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
          </table>
          <p className="mt-1 text-[13px] text-ink-2">
            They come back by a new consent of their own only.{" "}
            <Link
              className="text-cornflower underline"
              to={`/subscribers/table?rule=${encodeURIComponent('suppressed for "let go"')}`}
            >
              All of them in the table
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
  ["answers", "answers"],
  ["bookings", "bookings"],
];

function Side({ d, analyst }: { d: M["CleanUp"]; analyst: boolean }) {
  return (
    <>
      <h2>The agreement</h2>
      {analyst ? <Agree key={d.sentence + d.purpose} d={d} /> : <p className="mt-1 text-ink-2">{d.sentence}.</p>}
      <h2 className="mt-6">What stopping there saves</h2>
      <p className="mb-1 text-[13px] text-ink-2">
        The sends of the last 12 months, replayed: what went to people who had been silent for {d.after_days} days with
        five or more left unanswered.
      </p>
      <table className="lined">
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
      </table>
      <p className="mt-1 text-[13px] text-ink-2">
        Shares are of all sends of the year. The last two lines are the price.
      </p>
      {d.agreed && (
        <>
          <h2 className="mt-6">What it mails</h2>
          {d.patterns.map((p) => (
            <p key={p.name} className="mt-1">
              {p.id ? (
                <Link className="text-cornflower underline" to={`/campaigns/${p.id}/message`}>
                  {p.name}
                </Link>
              ) : (
                p.name
              )}
              {p.stop && <span className="block text-[13px] text-poppy">{p.stop}</span>}
            </p>
          ))}
        </>
      )}
      {Object.keys(d.outcomes).length > 0 && (
        <>
          <h2 className="mt-6">So far</h2>
          <table className="lined">
            <tbody>
              {Object.entries(d.outcomes).map(([words, n]) => (
                <tr key={words}>
                  <td>{words}</td>
                  <td className="n">{count(n)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </>
      )}
    </>
  );
}

function Agree({ d }: { d: M["CleanUp"] }) {
  const client = useQueryClient();
  const [after, setAfter] = useState(d.after_days);
  const [tries, setTries] = useState(d.tries);
  const [wait, setWait] = useState(d.wait_days);
  const [veiled, setVeiled] = useState(d.ask_veiled);
  const [byItself, setByItself] = useState(d.by_itself);
  const [purpose, setPurpose] = useState(d.purpose);
  const [error, setError] = useState<Error | null>(null);
  const number = (words: string, value: number, set: (n: number) => void, tail: string, step = 1) => (
    <label className="mt-1.5 flex items-center gap-2">
      <span className="w-[36px] text-ink-2">{words}</span>
      <input
        className="field w-[72px]!"
        type="number"
        step={step}
        value={value}
        onChange={(e) => setAfterNumber(set, e.target.value)}
      />
      <span>{tail}</span>
    </label>
  );
  return (
    <form
      className="mt-1"
      onSubmit={async (e) => {
        e.preventDefault();
        setError(null);
        try {
          const fresh = await put("/clean-up", {
            after_days: after,
            tries,
            wait_days: wait,
            ask_veiled: veiled,
            by_itself: byItself,
            purpose,
          });
          client.setQueryData(["clean-up"], fresh);
        } catch (x) {
          setError(x as Error);
        }
      }}
    >
      {number("After", after, setAfter, "days without an answer", 5)}
      {number("try", tries, setTries, tries === 1 ? "time" : "times")}
      {number("wait", wait, setWait, "days each, then let go")}
      <label className="mt-2 block">
        <span className="label">The win-back is about</span>
        <select className="field" value={purpose} onChange={(e) => setPurpose(e.target.value)}>
          {d.purposes.map((p) => (
            <option key={p}>{p}</option>
          ))}
        </select>
      </label>
      <label className="mt-2 flex items-baseline gap-2">
        <input type="checkbox" checked={veiled} onChange={(e) => setVeiled(e.target.checked)} />
        Ask the Veiled for a click; without this they are left alone
      </label>
      <label className="mt-1 flex items-baseline gap-2">
        <input type="checkbox" checked={byItself} onChange={(e) => setByItself(e.target.checked)} />
        Run by itself every week
      </label>
      <Sentence error={error} />
      <button type="submit" className="btn mt-3">
        {d.agreed ? "Keep this agreement" : "Agree to this"}
      </button>
    </form>
  );
}

function setAfterNumber(set: (n: number) => void, text: string) {
  set(Number(text) || 0);
}
