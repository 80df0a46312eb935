import type { M } from "../../api/client";
import { count, duration, people, points, share } from "../../logic/format";
import { Exclusions } from "../../parts/exclusions";
import { ObservedWords } from "../../parts/expected";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Waiting } from "../../parts/waiting";
import type { CampaignProps } from "./campaign";
import { Divided } from "./results-breakdown";
import { BATCHES_ARE, batchLabel, useResults } from "./schedule-running";
import { WhyNot } from "./why-not";

export function ResultsPage({ c, head, acts }: CampaignProps) {
  const { moment, zone } = useTimes();
  const me = useMe();
  const q = useResults(c.id, true);
  if (!q.data)
    return (
      <Page {...head}>
        <Waiting error={q.error} what="the results" />
      </Page>
    );
  const r = q.data;
  const pilot = c.plan.pilot_share > 0;
  return (
    <Page
      {...head}
      acts={
        <>
          {acts}
          <a className="btn" href={`/api/campaigns/${c.id}/results.csv`}>
            Export CSV
          </a>
          {r.variants.length > 0 && (
            <a className="btn" href={`/api/campaigns/${c.id}/variants.csv`}>
              Variants as CSV
            </a>
          )}
          <button type="button" className="btn" onClick={() => window.print()}>
            Print
          </button>
        </>
      }
      side={
        <>
          <h2 className="mb-2">Time to first engagement</h2>
          <Hours hours={r.hours} />
          <p className="mt-1 text-ink-2">
            {r.half_hours === null
              ? "No engagement yet."
              : `Half engaged within ${duration(r.half_hours * 3600)} of sending.`}
          </p>
          {r.days.slice(1).some(Boolean) && <Days days={r.days} />}
          <h2 className="mt-6 mb-2">Exclusions</h2>
          <Exclusions rows={r.why_not} />
          <WhyNot id={c.id} />
        </>
      }
    >
      <p className="mb-2 hidden text-small print:block">
        {me.workspace}. {c.subject && `Subject “${c.subject}”. `}
        {sentBetween(r, moment)}. {count(r.sent)} sent, {count(r.delivered)} delivered. Figures as of {moment(r.as_of)};
        times are in {zone}.
      </p>
      <p className="mb-2 text-small text-ink-2">
        {r.settled_at === null
          ? "Nothing has been sent yet."
          : r.settled_at <= r.as_of
            ? `Settled since ${moment(r.settled_at)}: nearly all engagement has come.`
            : `Still coming in; settled from ${moment(r.settled_at)}, if nothing more is sent.`}
      </p>
      <Bands r={r} />
      {r.observed && <ObservedWords of={r.observed} />}
      {r.variants.length > 0 && <Earned r={r} />}
      <h2 className="mt-6 mb-1">By batch</h2>
      <Table label="By batch">
        <thead>
          <tr>
            <th scope="col">Batch</th>
            <th scope="col" className="n">
              Sent
            </th>
            <th scope="col" className="n">
              Delivered
            </th>
            <th scope="col" className="n">
              Opened
            </th>
            <th scope="col" className="n" title="people expected to engage by now, 95% interval">
              Expected
            </th>
            <th scope="col" className="n">
              Clicked
            </th>
            <th scope="col" className="n">
              Machine only
            </th>
            <th scope="col" className="n">
              Unsubscribed
            </th>
            <th scope="col" className="n">
              Complained
            </th>
            <th scope="col" className="n">
              Bounced
            </th>
          </tr>
        </thead>
        <tbody>
          {r.batches
            .filter((b) => b.sent || b.failed)
            .map((b) => {
              const of = (k: number, digits = 1) => share(k, b.delivered, digits);
              return (
                <tr key={b.id}>
                  <td className="font-semibold">{batchLabel(b, pilot)}</td>
                  <td className="n">{count(b.sent)}</td>
                  <td className="n">{count(b.delivered)}</td>
                  <td className="n">{of(b.opened)}</td>
                  <td className="n whitespace-nowrap text-ink-2">
                    {b.observed ? rates(b.observed.low, b.observed.high, b.delivered) : "–"}
                  </td>
                  <td className="n">{of(b.clicked)}</td>
                  <td className="n">{b.kind === "first" ? of(b.machine_only) : "–"}</td>
                  <td className="n">{of(b.unsubscribed)}</td>
                  <td className="n">{of(b.complained, 2)}</td>
                  <td className="n">{share(b.bounced, b.sent)}</td>
                </tr>
              );
            })}
        </tbody>
      </Table>
      <p className="mt-2 text-small text-ink-2">
        Rates: human, of delivered; for resends, engagement after the resend. {count(r.unsure)} of {count(r.opened)}{" "}
        opens are uncertain. {BATCHES_ARE[c.plan.order]} As of {moment(r.as_of)}; times are in {zone}.
      </p>
      <Divided c={c} />
    </Page>
  );
}

/** The period of a printed report: from the first batch that went out to the last. */
function sentBetween(r: M["Results"], moment: (at: number) => string) {
  const due = r.batches.filter((b) => b.sent > 0).map((b) => b.due_at);
  const [from, to] = [Math.min(...due), Math.max(...due)];
  if (due.length === 0) return "Nothing sent yet";
  return from === to ? `Sent ${moment(from)}` : `Sent ${moment(from)} to ${moment(to)}`;
}

/** First engagements day by day, beyond the first hours. */
function Days({ days }: { days: number[] }) {
  const all = days.reduce((sum, n) => sum + n, 0);
  const shown = days.map((n, i) => ({ n, i })).filter(({ n, i }) => n > 0 || i < 3);
  return (
    <Table label="First engagement by day" className="mt-3 text-small">
      <thead>
        <tr>
          <th scope="col">Day after sending</th>
          <th scope="col" className="n">
            First engaged
          </th>
          <th scope="col" className="n">
            Share
          </th>
        </tr>
      </thead>
      <tbody>
        {shown.map(({ n, i }) => (
          <tr key={i}>
            <td>{i === days.length - 1 ? `${i + 1} and later` : i + 1}</td>
            <td className="n">{count(n)}</td>
            <td className="n text-ink-2">{share(n, all)}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

/** "31 to 34%": expected people as a share of those delivered. */
const rates = (low: number, high: number, of: number): string =>
  of ? `${((100 * low) / of).toFixed(0)} to ${((100 * high) / of).toFixed(0)}%` : "–";

function Bands({ r }: { r: M["Results"] }) {
  const rows: [string, number, string, string][] = [
    ["Sent", r.sent, "var(--color-ink-2)", ""],
    ["Delivered", r.delivered, "var(--color-masked)", share(r.delivered, r.sent)],
    ["Opens (human)", r.opened, "var(--color-steady)", share(r.opened, r.delivered)],
    ["Clicks (human)", r.clicked, "var(--color-strong)", share(r.clicked, r.delivered)],
    ["Machine only", r.machine_only, "var(--color-masked)", share(r.machine_only, r.delivered)],
  ];
  return (
    <Table label="Opens by band" plain className="w-full">
      <tbody>
        {rows.map(([words, n, colour, rate]) => (
          <tr key={words}>
            <td className="w-[130px] py-1 text-ink-2">{words}</td>
            <td>
              <div
                className="h-[18px]"
                style={{
                  width: `${Math.max(0.3, (100 * n) / Math.max(r.sent, 1))}%`,
                  background:
                    words === "Machine only"
                      ? "repeating-linear-gradient(45deg, var(--color-masked) 0 2px, var(--color-masked-pale) 2px 5px)"
                      : colour,
                }}
              />
            </td>
            <td className="w-[80px] text-right font-semibold">{count(n)}</td>
            <td className="w-[168px] pl-3 text-small text-ink-2">
              {rate && `${rate} ${words === "Delivered" ? "of sent" : "of delivered"}`}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

function Earned({ r }: { r: M["Results"] }) {
  const held = r.variants.find((a) => a.variant === "Holdout");
  const real = r.variants.filter((a) => a.difference !== null && a.people > 0);
  const low = Math.min(-0.02, ...real.map((a) => a.low ?? 0)),
    high = Math.max(0.04, ...real.map((a) => a.high ?? 0));
  const x = (v: number) => 10 + ((v - low) / (high - low)) * 480;
  const step = high - low > 0.3 ? 0.1 : high - low > 0.12 ? 0.05 : 0.02;
  const ticks = Array.from(
    { length: Math.floor(high / step) - Math.ceil(low / step) + 1 },
    (_, i) => (Math.ceil(low / step) + i) * step,
  );
  const due = r.variants.reduce((a, b) => a + b.people, 0);
  return (
    <section aria-label="Did the resend work?">
      <h2 className="mt-6">Did the resend work?</h2>
      <p className="mb-2 text-ink-2">
        {count(due)} had not engaged after the wait.{" "}
        {held?.people
          ? `${count(held.people)} in a random holdout group show how many would have engaged late anyway; that is deducted.`
          : "There was no holdout group."}
      </p>
      {real.length > 0 && (
        <Table label="First sends and resends" plain className="w-full">
          <thead>
            <tr className="text-tiny text-ink-3">
              <td />
              <td>
                <svg viewBox="0 0 500 14" className="block w-full" aria-hidden>
                  {ticks.map((t) => (
                    <text key={t} x={x(t)} y={11} textAnchor="middle" fontSize="11" fill="var(--color-ink-3)">
                      {Math.abs(t) < 1e-9 ? "0" : `${t > 0 ? "+" : "−"}${Math.abs(100 * t).toFixed(0)}`}
                    </text>
                  ))}
                </svg>
              </td>
              <td className="text-right">percentage points · additional engagements</td>
            </tr>
          </thead>
          <tbody>
            {r.variants.map((a) => (
              <tr key={a.variant}>
                <td className="w-[210px] py-1">
                  <b>{a.variant}</b> <span className="text-ink-2">{count(a.people)} people</span>
                </td>
                <td>
                  <svg
                    viewBox="0 0 500 22"
                    className="block w-full"
                    role="img"
                    aria-label={
                      a.difference === null
                        ? `${a.variant}: ${share(a.engaged, a.people)} engaged`
                        : `${a.variant}: ${points(a.difference)}, between ${points(a.low ?? 0)} and ${points(a.high ?? 0)}`
                    }
                  >
                    <line x1="0" x2="500" y1="21.5" y2="21.5" stroke="var(--color-rule)" />
                    <line x1={x(0)} x2={x(0)} y1="0" y2="22" stroke="var(--color-ink)" />
                    {a.difference !== null && a.people > 0 && (
                      <>
                        <line
                          x1={x(a.low ?? 0)}
                          x2={x(a.high ?? 0)}
                          y1="11"
                          y2="11"
                          stroke="var(--color-cornflower)"
                          strokeWidth="2.4"
                        />
                        <circle cx={x(a.difference)} cy="11" r="4.5" fill="var(--color-cornflower)" />
                      </>
                    )}
                  </svg>
                </td>
                <td className="w-[210px] pl-3 text-right">
                  {a.difference === null || !a.people ? (
                    <span className="text-ink-2">
                      {a.people ? `${share(a.engaged, a.people)} engaged late, ${people(a.engaged)}` : "not sent yet"}
                    </span>
                  ) : (
                    <>
                      <b>{points(a.difference)}</b> · {count(Math.round(a.added ?? 0))}{" "}
                      <span className="text-small text-ink-2">
                        ({count(a.engaged)} of {count(a.people)})
                      </span>
                    </>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <p className="mt-2">
        {r.verdict ? (
          <>
            <b>{r.verdict.split(". ")[0]}.</b> {r.verdict.split(". ").slice(1).join(". ")} <Settled r={r} />
          </>
        ) : (
          <span className="text-ink-2">The resend has not been sent yet.</span>
        )}
      </p>
      {r.verdict && (
        <p className="mt-1 text-ink-2">
          Engaged before it: {share(r.engaged_first, r.delivered)} of {count(r.delivered)} delivered; by now, with and
          without it, {share(r.engaged_all, r.delivered)}. The resend's own effect is the difference above.
        </p>
      )}
      {r.second_arms.length > 0 && (
        <>
          <h3 className="mt-4 font-semibold">Second resend</h3>
          <Table label="Second resend">
            <thead>
              <tr>
                <th scope="col">Group</th>
                <th scope="col" className="n">
                  People
                </th>
                <th scope="col" className="n">
                  Engaged since
                </th>
                <th scope="col" className="n">
                  Difference
                </th>
              </tr>
            </thead>
            <tbody>
              {r.second_arms.map((a) => (
                <tr key={a.variant}>
                  <td>{a.variant}</td>
                  <td className="n">{count(a.people)}</td>
                  <td className="n">{a.people ? `${share(a.engaged, a.people)} (${count(a.engaged)})` : "–"}</td>
                  <td className="n">
                    {a.difference === null || !a.people
                      ? "–"
                      : `${points(a.difference)}, ${points(a.low ?? 0)} to ${points(a.high ?? 0)}`}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
          <p className="mt-1">
            {r.second_verdict ? (
              <>
                <b>{r.second_verdict.split(". ")[0]}.</b> {r.second_verdict.split(". ").slice(1).join(". ")}
              </>
            ) : (
              <span className="text-ink-2">The second resend has not been sent yet.</span>
            )}
          </p>
        </>
      )}
    </section>
  );
}

/** A verdict that may still change says so, and until when. */
function Settled({ r }: { r: M["Results"] }) {
  const { moment } = useTimes();
  if (r.settles_at === null || r.settles_at <= r.as_of) return null;
  return (
    <span className="text-wheat">
      Not settled: engagement still comes in until about {moment(r.settles_at)}, and this may change.
    </span>
  );
}

function Hours({ hours }: { hours: number[] }) {
  const most = Math.max(...hours, 1);
  return (
    <svg
      viewBox="0 0 288 88"
      className="block w-full print:max-w-[90mm]"
      role="img"
      aria-label={`First engagement by hour since sending: ${hours.slice(0, 24).join(", ")}`}
    >
      {hours.slice(0, 24).map((n, i) => (
        <rect
          key={i}
          x={i * 12}
          y={72 - (70 * n) / most}
          width={10}
          height={(70 * n) / most}
          fill="var(--color-cornflower)"
        >
          <title>{`hour ${i + 1}: ${count(n)}`}</title>
        </rect>
      ))}
      <line x1="0" x2="288" y1="72.5" y2="72.5" stroke="var(--color-rule-strong)" />
      {[0, 6, 12, 18, 24].map((h) => (
        <text key={h} x={h === 24 ? 276 : h * 12} y={85} fontSize="11" fill="var(--color-ink-3)">
          {h} h
        </text>
      ))}
    </svg>
  );
}
