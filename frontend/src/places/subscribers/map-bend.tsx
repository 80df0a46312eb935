import { useMemo } from "react";
import type { M } from "../../api/client";
import { bend, type Shape } from "../../logic/cutoff";
import { share } from "../../logic/format";
import { Table } from "../../parts/table";

const W = 820,
  H = 92,
  FOOT = 18,
  LOW = 30,
  HIGH = 365;

/** The replay over all cut-offs: what stopping earlier would have gained and lost. */
export function BendChart({
  replay,
  shape,
  row,
  column,
  advised,
  choose,
}: {
  replay: M["ReplayView"];
  shape: Shape;
  row: number;
  column: number;
  advised: number;
  choose: (column: number) => void;
}) {
  const points = useMemo(() => bend(replay.for_good, shape, row), [replay, shape, row]);
  if (!replay.messages) return null;
  const days = shape.days[column];
  const low = Math.min(...points.map((p) => p.openRate)),
    high = Math.max(...points.map((p) => p.openRate), low + 0.01);
  const most = Math.max(...points.map((p) => p.opensLost), 0.01);
  const x = (d: number) => ((d - LOW) / (HIGH - LOW)) * W;
  const rate = (v: number) => 6 + (1 - (v - low) / (high - low)) * (H - 12);
  const lost = (v: number) => H - 6 - (v / most) * (H - 12);
  const now = points.findLast((p) => days !== undefined && p.days <= days);
  const line = (y: (p: (typeof points)[number]) => number) => points.map((p) => `${x(p.days)},${y(p)}`).join(" ");
  return (
    <figure className="border-t border-rule pt-2">
      <figcaption className="mb-1 flex flex-wrap justify-between gap-x-5 text-small text-ink-2">
        <span>
          <b className="font-head text-[14px] text-ink [font-stretch:87%]">What an earlier cut-off would have done</b>{" "}
          over the sends of {replay.months} months, for {shape.left[row]} or more ignored
        </span>
        <span>
          <svg width="18" height="8" aria-hidden className="mr-1 inline">
            <line x1="0" x2="18" y1="4" y2="4" stroke="var(--color-strong)" strokeWidth="2" />
          </svg>
          open rate (human), {share(low, 1)} to {share(high, 1)}
          <svg width="18" height="8" aria-hidden className="mr-1 ml-4 inline">
            <line x1="0" x2="18" y1="4" y2="4" stroke="var(--color-inactive)" strokeWidth="2" strokeDasharray="4 3" />
          </svg>
          opens lost, 0 to {share(most, 1)}
        </span>
      </figcaption>
      {/* biome-ignore lint/a11y/useKeyWithClickEvents: the handle under the map does the same by keyboard */}
      <svg
        viewBox={`0 0 ${W} ${H + FOOT}`}
        className="block w-full cursor-crosshair"
        role="img"
        aria-label={`Open rate and opens lost by cut-off, from ${LOW} to ${HIGH} days`}
        onClick={(e) => {
          const box = e.currentTarget.getBoundingClientRect();
          const wanted = LOW + ((e.clientX - box.left) / box.width) * (HIGH - LOW);
          const best = points.reduce((a, b) => (Math.abs(b.days - wanted) < Math.abs(a.days - wanted) ? b : a));
          choose(shape.days.indexOf(best.days));
        }}
      >
        {[30, 60, 90, 120, 180, 270, 365].map((d) => (
          <g key={d}>
            <line x1={x(d)} x2={x(d)} y1="0" y2={H} stroke="var(--color-rule)" strokeWidth="1" />
            <text
              x={x(d)}
              y={H + 13}
              fontSize="11.5"
              fill="var(--color-ink-3)"
              textAnchor={d === LOW ? "start" : d === HIGH ? "end" : "middle"}
            >
              {d === advised ? `${d} d, recommended` : d}
            </text>
          </g>
        ))}
        <polyline points={line((p) => rate(p.openRate))} fill="none" stroke="var(--color-strong)" strokeWidth="2" />
        <polyline
          points={line((p) => lost(p.opensLost))}
          fill="none"
          stroke="var(--color-inactive)"
          strokeWidth="2"
          strokeDasharray="5 4"
        />
        {now && (
          <g>
            <line x1={x(now.days)} x2={x(now.days)} y1="0" y2={H} stroke="var(--color-ink)" strokeWidth="1.2" />
            <circle cx={x(now.days)} cy={rate(now.openRate)} r="3.6" fill="var(--color-strong)" />
            <circle cx={x(now.days)} cy={lost(now.opensLost)} r="3.6" fill="var(--color-inactive)" />
          </g>
        )}
      </svg>
      <details className="text-small">
        <summary className="cursor-pointer text-cornflower">As a table</summary>
        <Table label="Open rate by cut-off" className="mt-1 max-w-[520px]">
          <thead>
            <tr>
              <th scope="col">Cut-off</th>
              <th scope="col" className="n">
                Open rate (human)
              </th>
              <th scope="col" className="n">
                Opens lost
              </th>
            </tr>
          </thead>
          <tbody>
            {points
              .filter((p) => p.days % 15 === 0)
              .map((p) => (
                <tr key={p.days}>
                  <td>{p.days} days</td>
                  <td className="n">{share(p.openRate, 1)}</td>
                  <td className="n">{share(p.opensLost, 1)}</td>
                </tr>
              ))}
          </tbody>
        </Table>
      </details>
    </figure>
  );
}
