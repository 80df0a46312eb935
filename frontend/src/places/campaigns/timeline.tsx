import { useRef, useState } from "react";
import type { M } from "../../api/client";
import { count } from "../../logic/format";
import { atShare, byKey, closed, type Slot, snapped, span, spread } from "../../logic/timeline";
import { useTimes } from "../../parts/times";

const W = 900,
  H = 230,
  TOP = 28,
  FLOOR = 190;

/** Batches over the days: height is people, a hatch is a resend, filled as far as sent. Closed hours are
 *  shaded, the largest batch is a dashed line. Those that still wait are
 *  dragged to another moment, or moved by the arrow keys; the plan's rules put them at the next moment allowed. */
export function Timeline({
  slots: given,
  now,
  plan,
  move,
}: {
  slots: Slot[];
  now: number;
  plan: Pick<M["Plan"], "hours" | "weekdays" | "largest">;
  move?: (slot: Slot, due: number) => void;
}) {
  const times = useTimes();
  const { atHour, clockTime, weekday, weekdayNumber, zone } = times;
  const [drag, setDrag] = useState<{ key: string; from: number; due: number } | null>(null);
  const svg = useRef<SVGSVGElement>(null);
  if (!given.length) return null;
  const slots = given.map((s) => (drag && s.key === drag.key ? { ...s, due: drag.due } : s));
  const ordered = [...slots].sort((a, b) => a.due - b.due);
  const { begin, end, days } = span(drag ? given : ordered, now, times);
  const x = (at: number) => atShare(at, begin, end) * W;
  const most = Math.max(...ordered.map((s) => s.people), plan.largest, 1);
  const high = (people: number) => ((FLOOR - TOP - 26) * people) / most;
  const gaps = ordered.slice(1).map((s, i) => x(s.due) - x(ordered[i]?.due ?? 0));
  const crowded = ordered.length > 60;
  const BAR = crowded
    ? Math.max(1, (W - 16) / ordered.length - 0.7)
    : Math.max(9, Math.min(26, Math.min(...gaps.filter((g) => g > 2), 99) - 8));
  const roomy = BAR >= 24;
  const lefts = spread(
    ordered.map((s) => x(s.due)),
    BAR + (roomy ? 9 : crowded ? 0.6 : 3),
    W - BAR - 8,
  );
  const fill = (s: Slot) =>
    s.state === "paused" || s.state === "stopped"
      ? "var(--color-poppy)"
      : s.state === "sent"
        ? "var(--color-strong)"
        : "var(--color-coming)";
  const perPixel = () => (end - begin) / (svg.current?.getBoundingClientRect().width || W);
  const handle = (s: Slot) =>
    move && s.state === "scheduled" && !s.fixed
      ? {
          tabIndex: 0,
          role: "button",
          className: "cursor-ew-resize outline-offset-2",
          style: { touchAction: "none" as const, userSelect: "none" as const },
          "aria-label": `Batch ${s.label}${s.resend ? " resend" : ""}, ${weekday(s.due)} ${clockTime(s.due)}: arrow keys move it`,
          onKeyDown: (e: React.KeyboardEvent) => {
            const to = byKey(e.key, e.shiftKey, s.due, times);
            if (to === null) return;
            e.preventDefault();
            move(s, Math.max(now, to));
          },
          onDragStart: (e: React.DragEvent) => e.preventDefault(),
          onPointerCancel: () => setDrag(null), // the bar goes back to where it was
          onPointerDown: (e: React.PointerEvent) => {
            if (e.button !== 0) return;
            e.preventDefault(); // no text is selected while the bar moves
            if (e.currentTarget instanceof SVGElement) e.currentTarget.focus();
            e.currentTarget.setPointerCapture(e.pointerId);
            setDrag({ key: s.key, from: e.clientX, due: s.due });
          },
          onPointerMove: (e: React.PointerEvent) => {
            if (drag?.key !== s.key) return;
            const was = given.find((x) => x.key === s.key)?.due ?? s.due;
            setDrag({ ...drag, due: Math.max(now, snapped(was + (e.clientX - drag.from) * perPixel())) });
          },
          onPointerUp: () => {
            if (drag?.key !== s.key) return;
            const was = given.find((x) => x.key === s.key)?.due;
            if (was !== undefined && drag.due !== was) move(s, drag.due);
            setDrag(null);
          },
        }
      : {};
  return (
    <>
      <svg
        ref={svg}
        viewBox={`0 0 ${W} ${H}`}
        className="block w-full rounded border border-rule bg-panel"
        role="group"
        aria-label={`Timeline: ${ordered.map((s) => `${s.label} ${weekday(s.due)} ${clockTime(s.due)}, ${count(s.people)} people, ${s.state}`).join("; ")}`}
      >
        <defs>
          <pattern id="again" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
            <rect width="7" height="7" fill="var(--color-cornflower-pale)" />
            <rect width="3.4" height="7" fill="var(--color-coming)" />
          </pattern>
        </defs>
        {days.map((d, i) => (
          <g key={d}>
            {closed(weekdayNumber(d), plan).map(([from, to]) => (
              <rect
                key={from}
                x={x(atHour(d, from))}
                y={TOP}
                width={x(atHour(d, to)) - x(atHour(d, from))}
                height={FLOOR - TOP}
                fill="var(--color-wash)"
              />
            ))}
            {i > 0 && <line x1={x(d)} x2={x(d)} y1={0} y2={H} stroke="var(--color-rule)" />}
            {i % Math.ceil(days.length / 12) === 0 && (
              <text x={x(d) + 8} y={18} fontSize="12.5" fill="var(--color-ink-2)">
                {days.length > 8 ? weekday(d).split(" ").slice(1).join(" ") : weekday(d)}
              </text>
            )}
          </g>
        ))}
        <line x1={0} x2={W} y1={FLOOR} y2={FLOOR} stroke="var(--color-rule-strong)" />
        {plan.largest > 0 && (
          <g>
            <line
              x1={0}
              x2={W}
              y1={FLOOR - high(plan.largest)}
              y2={FLOOR - high(plan.largest)}
              stroke="var(--color-wheat)"
              strokeDasharray="5 4"
            />
            <text
              x={W - 8}
              y={FLOOR - high(plan.largest) - 5}
              textAnchor="end"
              fontSize="11.5"
              fill="var(--color-wheat)"
            >
              at most {count(plan.largest)} a batch
            </text>
          </g>
        )}
        {now < end && (
          <g>
            <line x1={x(now)} x2={x(now)} y1={TOP - 6} y2={FLOOR} stroke="var(--color-poppy)" strokeWidth="1.6" />
            <text x={x(now) + 4} y={TOP + 6} fontSize="11.5" fill="var(--color-poppy)">
              now
            </text>
          </g>
        )}
        {ordered.map((s, i) => {
          const h = Math.max(s.people ? 8 : 14, high(s.people));
          const left = lefts[i] ?? 0;
          const done = s.people ? (h * s.sent) / s.people : 0;
          const open = s.resend && !s.people;
          const due = x(s.due); // a bar beside it has made room: where it belongs is said below
          return (
            <g key={s.key} {...handle(s)}>
              <title>{`${s.label}, ${weekday(s.due)} ${clockTime(s.due)}: ${open ? "people who have not engaged by then" : `${count(s.people)} people`}, ${s.state}`}</title>
              <rect
                x={left}
                y={FLOOR - h}
                width={BAR}
                height={h}
                rx="2"
                fill={s.resend && s.state !== "sent" ? "url(#again)" : fill(s)}
                stroke={open ? "var(--color-coming)" : "none"}
                strokeDasharray={open ? "3 2" : undefined}
              />
              {!crowded && Math.abs(left - due) > 2 && (
                <path
                  d={`M${due},${FLOOR + 5} L${due},${FLOOR} L${left},${FLOOR}`}
                  stroke="var(--color-ink-3)"
                  fill="none"
                />
              )}
              {s.state === "sending" && (
                <rect x={left} y={FLOOR - done} width={BAR} height={done} fill="var(--color-cornflower)" />
              )}
              <text
                x={left + BAR / 2}
                y={FLOOR - h - 6}
                textAnchor="middle"
                fontSize="12.5"
                fontWeight="600"
                fill="var(--color-ink)"
                stroke="var(--color-panel)"
                strokeWidth={3}
                paintOrder="stroke"
              >
                {crowded ? "" : s.pilot && !roomy ? "P" : s.label}
              </text>
              <text x={left + BAR / 2} y={FLOOR + 17} textAnchor="middle" fontSize="12" fill="var(--color-ink-2)">
                {roomy ? clockTime(s.due) : s.resend && !crowded ? "↻" : ""}
              </text>
              <text x={left + BAR / 2} y={FLOOR + 32} textAnchor="middle" fontSize="11.5" fill="var(--color-ink-3)">
                {!roomy
                  ? ""
                  : s.resend
                    ? "resend"
                    : s.people >= 10000
                      ? `${Math.round(s.people / 1000)}k`
                      : count(s.people)}
              </text>
            </g>
          );
        })}
      </svg>
      <p className="mt-1 text-right text-small text-ink-2">Times are in {zone}.</p>
    </>
  );
}
