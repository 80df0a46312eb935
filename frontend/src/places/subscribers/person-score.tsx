import { useState } from "react";
import type { M } from "../../api/client";
import { BAND_MEANS, BANDS } from "../../logic/bands";
import { count, duration } from "../../logic/format";
import { BandLegend } from "../../parts/band-legend";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";

type WhyScore = M["Why"];
const SHOWN = 14;
const percent = (chance: number) => (100 * chance).toFixed(0);

/** Why a person has their score: in counts, with the chance as it went, and what the next message would do to it. */
export function Why({ p, band }: { p: M["Person"]; band: number }) {
  const w = p.why;
  const { day } = useTimes();
  const [all, setAll] = useState(false);
  const steps = all ? w.steps : w.steps.slice(0, SHOWN);
  return (
    <>
      <h2>{w.masked ? `A chance to click of ${percent(w.chance)}%` : `A score of ${percent(w.chance)}`}</h2>
      <p className="mt-1 text-ink-2">
        {BANDS[band]}: {BAND_MEANS[band]}.{" "}
        {w.last_engaged
          ? `Last engaged ${duration(w.as_of - w.last_engaged)} ago; ${count(w.ignored)} ignored since.`
          : `Never engaged; ${count(w.ignored)} ignored.`}
      </p>
      {w.masked && (
        <p className="mt-2 text-ink-2">
          A proxy opens their mail, so whether they read it cannot be seen. Only clicks count here.
        </p>
      )}
      <Reasons w={w} />
      {w.counted > 1 && <ChanceLine steps={w.steps} />}
      <Table label="Why this score" className="mt-3 text-small">
        <thead>
          <tr>
            <th scope="col">Message</th>
            <th scope="col" className="n">
              Sent
            </th>
            <th scope="col" className="n">
              Score
            </th>
          </tr>
        </thead>
        <tbody>
          {steps.map((t, i) => (
            <tr key={i}>
              <td className="max-w-[126px]">
                <span className="block truncate" title={t.message}>
                  {t.message}
                </span>
                <span className="text-ink-2">{t.what}</span>
              </td>
              <td className="n whitespace-nowrap">{day(t.at)}</td>
              <td className="n">{t.counts ? percent(t.chance) : <span className="text-ink-3">not counted</span>}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      {!w.steps.length && <p className="mt-2 text-ink-2">No message has been delivered yet.</p>}
      {!all && w.steps.length > SHOWN && (
        <button type="button" className="btn btn-bare mt-1" onClick={() => setAll(true)}>
          Show all {count(w.steps.length)} messages
        </button>
      )}
      <p className="mt-3 text-small text-ink-2">
        An ignored message counts after {days(w.settled_days)}, by when 95% of your engagement has come. One that only a
        machine opened does not count.
        {!w.own_history && " There is not enough history of your own yet, so usual figures stand in."}
      </p>
      <BandLegend />
    </>
  );
}

const days = (n: number) => (n >= 2 ? `${Math.round(n)} days` : `${Math.round(24 * n)} hours`);

function Reasons({ w }: { w: WhyScore }) {
  const [engage, engaged, ignored] = w.masked
    ? ["clicks in", "clicked in", "not clicked in"]
    : ["engages with", "engaged with", "ignored"];
  if (!w.counted)
    return <p className="my-3 border-rule border-y py-2">No message counts yet. This is the chance of a newcomer.</p>;
  return (
    <ul className="my-3 list-none border-rule border-y py-2 [&>li]:py-0.5">
      <li>
        {engaged[0]?.toUpperCase() + engaged.slice(1)} <b>{count(w.counted_engaged)}</b> of the last{" "}
        <b>{count(w.counted)}</b> messages
      </li>
      {w.ignored_now > 0 && (
        <li>
          The last <b>{count(w.ignored_now)}</b> {ignored}
          {w.counted_engaged > 0 && `; up to ${count(w.ignored_before)} in a row before`}
        </li>
      )}
      <li>
        <b>{percent(w.active)}%</b> likely still active
      </li>
      <li>
        While active, {engage} <b>{percent(w.rate)}%</b> of messages
      </li>
      <li>
        The next message makes it <b>{percent(w.if_engaged)}</b> if {engaged}, <b>{percent(w.if_ignored)}</b> if ignored
      </li>
    </ul>
  );
}

const WIDTH = 260;
const HEIGHT = 56;

/** The score after each message that counted, the oldest first. */
function ChanceLine({ steps }: { steps: WhyScore["steps"] }) {
  const line = steps.filter((t) => t.counts).reverse();
  const top = Math.max(0.1, ...line.map((t) => t.chance));
  const x = (i: number) => (i / Math.max(1, line.length - 1)) * (WIDTH - 6) + 3;
  const y = (chance: number) => HEIGHT - 4 - (chance / top) * (HEIGHT - 8);
  const first = line[0];
  const last = line[line.length - 1];
  if (!first || !last) return null;
  const words = `Score after each message: ${percent(first.chance)} at first, ${percent(last.chance)} now, at most ${percent(top)}`;
  return (
    <figure>
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={words} className="block w-full">
        <line x1={0} x2={WIDTH} y1={HEIGHT - 4} y2={HEIGHT - 4} className="stroke-rule" />
        <polyline
          points={line.map((t, i) => `${x(i)},${y(t.chance)}`).join(" ")}
          className="fill-none stroke-cornflower"
          strokeWidth={1.5}
        />
        <circle cx={x(line.length - 1)} cy={y(last.chance)} r={2.5} className="fill-cornflower" />
      </svg>
      <figcaption className="text-small text-ink-2">
        The score after each message that counts; highest {percent(top)}
      </figcaption>
    </figure>
  );
}
