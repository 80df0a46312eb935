import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count, people, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { ProviderName } from "../../parts/provider";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { TakeFile } from "../../parts/upload";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";
import { WordSettings } from "./alerts";
import { Receivers } from "./dmarc-reports";
import { IntakeAside } from "./intake";

const SENT = "sent";
const DRAWN: [kind: string, base: string][] = [
  ["deferred", SENT],
  ["hard bounces", SENT],
  ["blocked", SENT],
  ["complaints", SENT],
  ["unsubscribed", SENT],
  ["not in inbox", "copies"],
];
const sum = (a: number[] | undefined) => (a ?? []).reduce((x, y) => x + y, 0);

/** What the providers do with our mail, day by day, against the limits; what refusals say; the obligations. */
export function HealthPlace() {
  const { day } = useTimes();
  const me = useMe();
  const [sender, setSender] = useState(0);
  const q = useQuery({
    queryKey: keys.health(sender),
    queryFn: () => get(`/health?sender=${sender}`),
    placeholderData: (b) => b,
    refetchInterval: (x) => (x.state.data?.looking ? 1500 : false),
  });
  const d = q.data;
  if (!d)
    return (
      <Page title="Health">
        <Waiting error={q.error} what="the providers" />
      </Page>
    );
  return (
    <Page
      title="Health"
      lead={`Delivery by mailbox provider, last ${d.days} days.`}
      acts={
        <Link className="btn" to="/health/providers">
          Providers
        </Link>
      }
      side={<Side d={d} analyst={me.role === "analyst"} />}
    >
      {d.senders.length > 0 && (
        <label className="mb-3 flex items-center gap-2">
          <span className="text-ink-2">Sender</span>
          <select className="field w-auto" value={sender} onChange={(e) => setSender(Number(e.target.value))}>
            <option value={0}>all, imported history included</option>
            {d.senders.map((x) => (
              <option key={x.id} value={x.id}>
                {x.name}
              </option>
            ))}
          </select>
        </label>
      )}
      <Table label="Providers" className="max-desk:[&_td]:px-1 max-desk:[&_th]:px-1">
        <thead>
          <tr>
            <th scope="col">Provider</th>
            <th scope="col" className="n">
              Sent
            </th>
            <th scope="col" className="n">
              Opens (human)
            </th>
            <th scope="col" className="n">
              Machine opens
            </th>
            <th scope="col" className="w-[104px] max-desk:w-auto">
              Inbox <span className="block font-normal">by engagement</span>
            </th>
            {DRAWN.map(([k]) => (
              <th scope="col" key={k} className="w-[98px] max-desk:w-auto">
                {k} <span className="block font-normal">limit {100 * (d.limits[k] ?? 0)}%</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {d.providers.map((p) => {
            const sent = sum(p.days.sent);
            const opens = sum(p.days.opened);
            const machines = sum(p.days["machine opens"]);
            return (
              <tr key={p.name}>
                <td>
                  <b>
                    <ProviderName name={p.name} />
                  </b>
                  <span className="block text-small text-ink-2">{people(p.people)}</span>
                  {p.says && <OwnFigures says={p.says} limit={p.limits.complaints ?? 0} />}
                </td>
                <td className="n">{count(sent)}</td>
                <td className="n">{count(opens)}</td>
                <td className="n text-ink-2">{share(machines, opens + machines, 0)}</td>
                <td>
                  <PlacementMarks seen={p.placement} />
                </td>
                {DRAWN.map(([k, base]) => (
                  <td key={k}>
                    <Small
                      counts={p.days[k] ?? []}
                      base={p.days[base] ?? []}
                      limit={p.limits[k] ?? 0}
                      words={`${k} at ${p.name}`}
                      whole={base === SENT ? "" : base}
                    />
                  </td>
                ))}
              </tr>
            );
          })}
        </tbody>
      </Table>
      <p className="mt-1 text-small text-ink-2">
        Rates are of mail sent to that provider. One bar per day (pale: fewer than {FEW} sent); the dashed line is the
        limit. Complaints need a provider's feedback loop. Inbox by engagement: a mark for each of the last mailings;
        red where far fewer engaged than expected, while the other providers' people engaged as usual. The last column
        comes from placement tests.
      </p>
      <h2 className="mt-7 mb-1">Bounce reasons</h2>
      {!d.refusals.length && <Quiet>No bounces or deferrals in the last {d.days} days.</Quiet>}
      {d.refusals.length > 0 && (
        <Table label="Bounce reasons">
          <thead>
            <tr>
              <th scope="col">Provider</th>
              <th scope="col">Type</th>
              <th scope="col">Response</th>
              <th scope="col" className="n">
                Count
              </th>
              <th scope="col">Since</th>
              <th scope="col">Last</th>
            </tr>
          </thead>
          <tbody>
            {d.refusals.slice(0, 15).map((r) => (
              <tr key={r.provider + r.kind + r.text}>
                <td>
                  <ProviderName name={r.provider} />
                </td>
                <td className={r.kind === "blocked" ? "font-semibold text-poppy" : ""}>{r.kind}</td>
                <td className="max-w-[300px] font-mono text-small [overflow-wrap:anywhere]">{r.text}</td>
                <td className="n">{count(r.count)}</td>
                <td className="whitespace-nowrap text-ink-2">{day(r.first)}</td>
                <td className="whitespace-nowrap text-ink-2">{day(r.last)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {me.role === "analyst" && (
        <div className="mt-3 flex flex-wrap items-center gap-3">
          <UndoBounces d={d} />
          <TakeFile
            path="/health/statistics"
            accept=".csv"
            label="Provider statistics"
            words="Import provider statistics…"
            said={(t: M["ImportedStatistics"]) => [`${count(t.rows)} rows imported.`, ...t.refused]}
          />
        </div>
      )}
      <h2 className="mt-7 mb-1">Bulk-sender requirements</h2>
      <Table label="Bulk-sender requirements">
        <tbody>
          {d.requirements.map((x) => (
            <tr key={x.requirement}>
              <td className="w-[230px] font-semibold">{x.requirement}</td>
              <td className="w-[90px]">
                {["pass", "warning", "fail", "unknown"].includes(x.state) ? (
                  <StateTag state={x.state} />
                ) : (
                  <span className="tag tag-plain">{x.state}</span>
                )}
              </td>
              <td className="text-ink-2">
                {x.evidence}
                {x.since ? ` Since ${day(x.since)}.` : ""}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Receivers d={d} analyst={me.role === "analyst"} />
      <IntakeAside />
    </Page>
  );
}

const SEEN = { inbox: "bg-strong", spam: "bg-poppy", "too few": "hatch" };
const LAST_MAILINGS = 10;

/** One mark a mailing, the newest on the right: in the inbox, most likely in the spam folder, or too few to tell. */
function PlacementMarks({ seen }: { seen: M["PlacementSeen"][] }) {
  const { day } = useTimes();
  const shown = seen.slice(-LAST_MAILINGS);
  const last = [...shown].reverse().find((s) => s.state !== "too few");
  if (!last) return <span className="text-small text-ink-2">too few to tell</span>;
  const words = shown.map((s) => `${s.message}, ${day(s.at)}: ${SEEN_WORDS[s.state]}`).join("; ");
  return (
    <>
      <span role="img" aria-label={words} title={words} className="flex gap-0.5">
        {shown.map((s) => (
          <span key={s.message + s.at} className={`h-3 w-2 ${SEEN[s.state]}`} />
        ))}
      </span>
      {last.state === "spam" ? (
        <span className="block text-small font-semibold text-poppy">
          spam folder? {count(last.observed)} of {count(Math.round(last.expected))} expected
        </span>
      ) : (
        <span className="block text-small text-ink-2">as expected</span>
      )}
    </>
  );
}

const SEEN_WORDS = { inbox: "as expected", spam: "most likely in the spam folder", "too few": "too few to tell" };

/** What the provider itself says: its worst day's spam rate and the last word on our name. */
function OwnFigures({ says, limit }: { says: M["OwnFigures"]; limit: number }) {
  const over = says.complaint_rate !== null && says.complaint_rate > limit;
  return (
    <span className="block text-small text-ink-2">
      says{" "}
      {says.complaint_rate !== null && (
        <span className={over ? "font-semibold text-poppy" : ""} title={`worst day ${says.complaint_day}`}>
          spam {share(says.complaint_rate, 1, 2)}
        </span>
      )}
      {says.complaint_rate !== null && says.standing && ", "}
      {says.standing && <span title={says.day}>{says.standing}</span>}
    </span>
  );
}

const FEW = 50; // of so few in a day a share says nothing: drawn pale, and not what the height goes by

/** One small multiple: a day's share as a bar, the limit dashed, the 30-day figure beside it. */
function Small({
  counts,
  base,
  limit,
  words,
  whole,
}: {
  counts: number[];
  base: number[];
  limit: number;
  words: string;
  whole: string;
}) {
  const k = sum(counts);
  const n = sum(base);
  const enough = (i: number) => (base[i] ?? 0) >= (whole ? 1 : FEW); // test copies are few by nature
  const top = Math.max(limit * 1.6, ...counts.map((c, i) => (enough(i) ? c / (base[i] as number) : 0)));
  const y = (v: number) => 22 - (20 * Math.min(v, top)) / (top || 1);
  const over = n > 0 && k / n > limit;
  return (
    <figure role="img" aria-label={`${words}: ${count(k)} of ${count(n)}, ${share(k, n, 2)}`} className="m-0">
      <svg
        viewBox="0 0 90 24"
        preserveAspectRatio="none"
        aria-hidden
        className="block h-6 w-full min-w-[52px] max-w-[90px]"
      >
        {counts.map((c, i) => {
          const b = base[i] ?? 0;
          return c > 0 && b > 0 ? (
            <rect
              key={i}
              x={i * 3}
              y={y(c / b)}
              width={2}
              height={22 - y(c / b)}
              fill={
                !enough(i) ? "var(--color-rule-strong)" : c / b > limit ? "var(--color-poppy)" : "var(--color-ink-3)"
              }
            />
          ) : null;
        })}
        <path d={`M0 ${y(limit)}H90`} stroke="var(--color-poppy)" strokeDasharray="3 2" strokeWidth={0.8} />
        <path d="M0 22.5H90" stroke="var(--color-rule-strong)" strokeWidth={1} />
      </svg>
      <figcaption className={`text-small ${over ? "font-semibold text-poppy" : "text-ink-2"}`}>
        {whole ? (n ? `${count(k)} of ${count(n)} ${whole}` : "not tested") : share(k, n, 2)}
      </figcaption>
    </figure>
  );
}

function UndoBounces({ d }: { d: M["HealthView"] }) {
  const { fromLocalInput, localInput } = useTimes();
  const client = useQueryClient();
  const [provider, setProvider] = useState(d.providers[0]?.name ?? "");
  const [since, setSince] = useState(localInput(d.now - 86400));
  const [until, setUntil] = useState(localInput(d.now));
  const [why, setWhy] = useState("");
  const [open, setOpen] = useState(false);
  const [from, to] = [fromLocalInput(since) ?? 0, fromLocalInput(until) ?? 0];
  const found = useQuery({
    queryKey: keys.bounced(provider, from, to),
    queryFn: () =>
      get(`/health/reverse-bounces?${new URLSearchParams({ provider, since: `${from}`, until: `${to}` })}`),
    enabled: open && to > from,
  }).data?.people;
  return (
    <Ask
      opened={setOpen}
      trigger={
        <button type="button" className="btn">
          Reverse false bounces…
        </button>
      }
      title="Reverse a provider's false bounces"
      words={found ? `Reverse bounces of ${people(found)}` : "Reverse bounces"}
      disabled={!why.trim() || !found}
      act={async () => {
        const done = await post("/health/reverse-bounces", {
          provider,
          since: from,
          until: to,
          why,
        });
        await peopleChanged(client);
        offerUndo({
          words: `${people(done.people)} may be mailed again.`,
          undo: async () => {
            await post(`/activity/${done.action}/undo`);
            await peopleChanged(client);
          },
        });
      }}
    >
      Removes all hard-bounce suppressions at this provider in the period, in one action you can undo.{" "}
      <b className="text-ink">
        {to <= from
          ? "The end must be after the start."
          : found === undefined
            ? "Counting…"
            : found === 0
              ? "No one was suppressed for a hard bounce then."
              : `${people(found)} would be mailed again.`}
      </b>
      <div className="mt-3 grid grid-cols-3 gap-3 text-ink">
        <label>
          <span className="label">Provider</span>
          <select className="field" value={provider} onChange={(e) => setProvider(e.target.value)}>
            {d.providers.map((p) => (
              <option key={p.name}>{p.name}</option>
            ))}
          </select>
        </label>
        <label>
          <span className="label">From</span>
          <input className="field" type="datetime-local" value={since} onChange={(e) => setSince(e.target.value)} />
        </label>
        <label>
          <span className="label">To</span>
          <input className="field" type="datetime-local" value={until} onChange={(e) => setUntil(e.target.value)} />
        </label>
        <label className="col-span-3">
          <span className="label">Reason (logged)</span>
          <input className="field" value={why} onChange={(e) => setWhy(e.target.value)} />
        </label>
      </div>
    </Ask>
  );
}

const PLACED: Record<string, string> = {
  inbox: "text-clover",
  spam: "text-poppy",
  missing: "text-poppy",
  refused: "text-poppy",
  waiting: "text-ink-2",
};

function Side({ d, analyst }: { d: M["HealthView"]; analyst: boolean }) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const campaigns = useQuery({ queryKey: keys.campaigns(), queryFn: () => get("/campaigns") });
  const [chosen, setChosen] = useState(0);
  const { run, error } = useAction();
  const id = chosen || campaigns.data?.campaigns[0]?.id || 0;
  return (
    <>
      <h2>Placement tests</h2>
      <p className="mt-1 text-small text-ink-2">
        Sends copies to {d.boxes} seed mailboxes and checks in which folder they land. Not counted in results.
      </p>
      {analyst && d.boxes > 0 && (
        <div className="mt-2 flex gap-2">
          <select
            className="field"
            aria-label="Campaign"
            value={id}
            onChange={(e) => setChosen(Number(e.target.value))}
          >
            {campaigns.data?.campaigns.map((c) => (
              <option key={c.id} value={c.id}>
                {c.name}
              </option>
            ))}
          </select>
          <button
            type="button"
            className="btn"
            disabled={!id}
            onClick={async () => {
              await run(async () => {
                await post(`/campaigns/${id}/placement`);
                await client.invalidateQueries({ queryKey: keys.health() });
              });
            }}
          >
            Run placement test
          </button>
        </div>
      )}
      <Sentence error={error} />
      {d.tests.slice(0, 4).map((t) => (
        <table key={t.id} className="lined mt-2">
          <caption className="text-left text-small text-ink-2">
            {t.campaign}, {moment(t.at)}
          </caption>
          <tbody>
            {t.copies.map((c) => (
              <tr key={c.address}>
                <td>
                  <ProviderName name={c.provider} />
                </td>
                <td className={`n font-semibold ${PLACED[c.folder]}`}>{c.folder}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ))}
      <WordSettings words={d.words} analyst={analyst} />
    </>
  );
}
