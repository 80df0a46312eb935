import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { BAND_CLASS, BAND_FILL, BANDS } from "../../logic/bands";
import { count, people, share } from "../../logic/format";
import { BandLegend } from "../../parts/band-legend";
import { BandWord } from "../../parts/bands";
import { Page } from "../../parts/page";
import { Patterns } from "../../parts/patterns";
import { ProviderName } from "../../parts/provider";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Waiting } from "../../parts/waiting";
import { FirstSteps } from "./first-steps";

const TAG: Record<string, string> = {
  Restored: "tag-fail",
  Relay: "tag-fail",
  Paused: "tag-fail",
  Unconfirmed: "tag-fail",
  Sender: "tag-warning",
  Unencrypted: "tag-warning",
  DMARC: "tag-warning",
  External: "tag-warning",
  Inactive: "tag-plain",
  Import: "tag-plain",
};

export function TodayPlace() {
  const q = useQuery({
    queryKey: keys.today(),
    queryFn: () => get("/today"),
    refetchInterval: (x) => (x.state.data?.base_missing ? 3000 : false),
  });
  if (!q.data)
    return (
      <Page title="Today">
        <Waiting error={q.error} what="the day" />
      </Page>
    );
  const t = q.data;
  const needs = t.decisions.length;
  const bases = t.base.some((p) => p.bands.some(Boolean));
  if (!bases && !needs)
    return (
      <Page title="Today">
        <FirstSteps of={t.first_steps} />
        {t.first_steps.length === 0 && (
          <Quiet>
            This workspace is empty. Start by{" "}
            <Link className="text-cornflower underline" to="/subscribers/import">
              importing your subscribers
            </Link>{" "}
            from a CSV and their history from an event log. Then{" "}
            <Link className="text-cornflower underline" to="/senders">
              add the domain you send from
            </Link>
            .
          </Quiet>
        )}
      </Page>
    );
  const words = [
    "Nothing needs your attention.",
    "1 item needs your attention.",
    "2 items need your attention.",
    "3 items need your attention.",
  ];
  return (
    <Page
      title="Today"
      lead={`${words[needs] ?? `${needs} items need your attention.`} ${stillToday(t)}`}
      side={<Providers of={t.providers} />}
    >
      <FirstSteps of={t.first_steps} />
      <section aria-label="Decisions" className="border-t border-rule">
        {t.decisions.map((d) => (
          <div key={d.title} className="flex items-center gap-4 border-b border-rule py-2.5">
            <span className="w-20 shrink-0">
              <span className={`tag ${TAG[d.kind] ?? "tag-plain"}`}>{d.kind}</span>
            </span>
            <div className="min-w-0 flex-1">
              <p className="font-semibold">{d.title}</p>
              <p className="text-small text-ink-2">{d.detail}</p>
            </div>
            <Link className="btn" to={d.link}>
              {d.act}
            </Link>
          </div>
        ))}
      </section>
      <h2 className="mt-6 mb-1">Sending today</h2>
      <DayRows day_rows={t.day_rows} now={t.now} day={t.day as [number, number]} />
      <div className="mt-7 mb-2 flex flex-wrap items-baseline justify-between gap-x-4">
        <h2>Subscribers by band, 12 months</h2>
        <span className="flex flex-wrap gap-x-3.5 text-small text-ink-2">
          {BANDS.map((b, i) => (
            <BandWord key={b} band={i} />
          ))}
        </span>
      </div>
      <Base points={t.base} />
      {t.base_missing > 0 && (
        <p className="mt-1 text-small text-ink-2" role="status">
          {count(t.base_missing)} earlier month {t.base_missing === 1 ? "end is" : "ends are"} being calculated.
        </p>
      )}
      <BandLegend />
    </Page>
  );
}

function stillToday(t: M["TodayView"]): string {
  const due = t.due_in_sequences
    ? `${count(t.due_in_sequences)} sequence ${t.due_in_sequences === 1 ? "message is" : "messages are"} due`
    : "";
  if (!t.goes_out) return due ? `No more campaign messages today; ${due}.` : "Nothing more to send today.";
  return `${count(t.goes_out)} campaign messages are still due today${due ? `; ${due}` : ""}.`;
}

const MARK: Record<string, string> = {
  sent: "bg-strong text-white",
  paused: "bg-poppy text-white",
  sending: "bg-cornflower text-white",
};

function DayRows({
  day_rows,
  now,
  day: [begin, end],
}: {
  day_rows: M["DayRow"][];
  now: number;
  day: [number, number];
}) {
  const { clockTime } = useTimes();
  if (!day_rows.length)
    return (
      <p className="border-t border-rule py-3 text-ink-2">
        No batches today.{" "}
        <Link className="text-cornflower underline" to="/campaigns">
          Create a campaign
        </Link>
      </p>
    );
  const x = (at: number) => `${Math.max(0, Math.min(100, ((at - begin) / (end - begin)) * 100))}%`;
  const names = [...new Set(day_rows.map((l) => l.name))];
  return (
    <div>
      <div className="ml-[210px] mr-[160px] max-phone:mx-2 relative h-5 text-tiny text-ink-3" aria-hidden>
        {[0, 6, 12, 18, 24].map((h) => (
          <span key={h} className="absolute -translate-x-1/2" style={{ left: `${(h / 24) * 100}%` }}>
            {String(h).padStart(2, "0")}
          </span>
        ))}
      </div>
      {names.map((name) => {
        const mine = day_rows.filter((l) => l.name === name);
        const sent = mine.reduce((a, l) => a + l.sent, 0);
        const all = mine.reduce((a, l) => a + l.people, 0);
        const sequence = mine[0]?.kind === "sequence";
        const most = Math.max(...mine.map((l) => l.people), 1);
        return (
          <div key={name} className="flex max-phone:flex-wrap items-center border-t border-rule py-2 last:border-b">
            <Link
              to={mine[0]?.link ?? ""}
              className="w-[210px] max-phone:w-auto max-phone:flex-1 truncate pr-3 hover:underline"
            >
              {name}
            </Link>
            <div className="relative h-[20px] flex-1 max-phone:order-last max-phone:mx-2 max-phone:my-2 max-phone:basis-full bg-wash">
              <span className="absolute top-[-8px] bottom-[-8px] w-px bg-poppy" style={{ left: x(now) }} title="now" />
              {mine.map((l) => (
                <span
                  key={l.n}
                  title={`${sequence ? "due" : `batch ${l.n}`}, ${clockTime(l.due_at)}, ${people(l.people)}${sequence ? "" : `, ${l.state}`}`}
                  className={`absolute bottom-0 rounded-[2px] text-center text-tiny leading-5 font-semibold ${sequence ? "bg-coming" : `min-w-[22px] ${MARK[l.state] ?? "bg-coming"}`}`}
                  style={{
                    left: x(l.due_at),
                    width: sequence ? 14 : 26,
                    height: sequence ? `${Math.max(20, (100 * l.people) / most)}%` : "100%",
                  }}
                >
                  {sequence ? "" : l.n}
                </span>
              ))}
            </div>
            <span className="w-[160px] max-phone:w-auto pl-3 text-right text-ink-2">
              {sequence
                ? `${count(sent)} sent, ${count(all)} due`
                : `${count(sent)} of ${count(all)}${mine[0]?.kind === "external" ? ", sent with another system" : ""}`}
            </span>
          </div>
        );
      })}
    </div>
  );
}

function Base({ points }: { points: M["BasePoint"][] }) {
  const { day, month } = useTimes();
  const w = 900,
    h = 150;
  const totals = points.map((p) => p.bands.reduce((a, b) => a + b, 0));
  const top = Math.max(...totals, 1);
  const x = (i: number) => (i / Math.max(points.length - 1, 1)) * w;
  const layers = BANDS.map((_, band) => {
    const upto = (p: M["BasePoint"], b: number) => p.bands.slice(0, b).reduce((a, c) => a + c, 0);
    const y = (v: number) => h - (v / top) * h;
    const upper = points.map((p, i) => `${x(i)},${y(upto(p, band + 1))}`);
    const lower = points.map((p, i) => `${x(i)},${y(upto(p, band))}`).reverse();
    return [...upper, ...lower].join(" ");
  });
  const first = totals[0] ?? 0,
    last = totals.at(-1) ?? 0;
  const engaged = (p?: M["BasePoint"]) => (p?.bands[0] ?? 0) + (p?.bands[1] ?? 0);
  return (
    <figure>
      <svg
        viewBox={`0 0 ${w} ${h}`}
        preserveAspectRatio="none"
        className="block h-[150px] w-full"
        role="img"
        aria-label="People by band over 12 months"
      >
        <Patterns />
        {layers.map((l, i) => (
          <polygon key={BANDS[i]} points={l} fill={BAND_FILL[i]} className={BAND_CLASS[i] === "hatch" ? "" : ""} />
        ))}
      </svg>
      <div className="mt-1 flex justify-between text-tiny text-ink-3" aria-hidden>
        {points.map((p, i) => (
          <span key={i}>{i === points.length - 1 ? "now" : month(p.at)}</span>
        ))}
      </div>
      <figcaption className="mt-2 text-ink-2">
        Engaged (Strong or Steady): {count(engaged(points[0]))} of {count(first)} on {day(points[0]?.at ?? 0)},{" "}
        <b className="text-ink">
          {count(engaged(points.at(-1)))} of {count(last)}
        </b>{" "}
        now ({share(engaged(points.at(-1)), last)}).
      </figcaption>
      <details className="mt-1 text-small">
        <summary className="cursor-pointer text-cornflower">Show as a table</summary>
        <Table label="Subscribers over time" className="mt-1 max-w-[720px]">
          <thead>
            <tr>
              <th scope="col">As of</th>
              {BANDS.map((b) => (
                <th scope="col" key={b} className="n">
                  {b}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {points.map((p) => (
              <tr key={p.at}>
                <td>{month(p.at)}</td>
                {p.bands.map((n, i) => (
                  <td key={i} className="n">
                    {count(n)}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </Table>
      </details>
    </figure>
  );
}

const DEFERRAL_LIMIT = 0.1;

function Providers({ of }: { of: M["Provider"][] }) {
  return (
    <>
      <h2>Mailbox providers</h2>
      <p className="mb-2 text-small text-ink-2">
        Deferred share of each week's mail, 12 weeks, against the limit of 10%.
      </p>
      {of.map((p) => {
        const top = Math.max(DEFERRAL_LIMIT * 1.35, ...p.weeks) * 1.05;
        const y = (v: number) => 44 - (v / top) * 42;
        const over = (p.weeks.at(-1) ?? 0) > DEFERRAL_LIMIT;
        return (
          <div key={p.name} className="border-t border-rule py-2.5">
            <div className="flex justify-between">
              <b>
                <ProviderName name={p.name} />
              </b>
              <span className={over ? "font-semibold text-wheat" : "text-ink-2"}>
                {over ? "over the limit, " : ""}last week {((p.weeks.at(-1) ?? 0) * 100).toFixed(1)}%
              </span>
            </div>
            <svg
              viewBox="0 0 285 46"
              className="my-1 block w-full"
              role="img"
              aria-label={`Deferred by week at ${p.name}: ${p.weeks.map((v) => `${(100 * v).toFixed(1)}%`).join(", ")}`}
            >
              <line
                x1="0"
                x2="285"
                y1={y(DEFERRAL_LIMIT)}
                y2={y(DEFERRAL_LIMIT)}
                stroke="var(--color-poppy)"
                strokeDasharray="3 3"
                strokeWidth="1"
              />
              <polyline
                points={p.weeks.map((v, i) => `${(i / Math.max(p.weeks.length - 1, 1)) * 285},${y(v)}`).join(" ")}
                fill="none"
                stroke="var(--color-ink)"
                strokeWidth="1.6"
              />
            </svg>
            <p className="text-small text-ink-2">
              30 days: complaints {share(p.complained, p.sent, 2)}, bounced {share(p.bounced, p.sent)} of{" "}
              {count(p.sent)}
            </p>
          </div>
        );
      })}
    </>
  );
}
