import { clockTime, count, weekday } from "../../logic/format";
import { atShare, type Slot, span, spread } from "../../logic/timeline";

const W = 900,
  H = 230,
  TOP = 28,
  FLOOR = 190;

/** Batches over the days: height is people, a hatch is a resend, filled as far as handed over. */
export function Timeline({ slots, now }: { slots: Slot[]; now: number }) {
  if (!slots.length) return null;
  const ordered = [...slots].sort((a, b) => a.due - b.due);
  const { begin, end, days } = span(ordered, now);
  const x = (at: number) => atShare(at, begin, end) * W;
  const most = Math.max(...ordered.map((s) => s.people), 1);
  const gaps = ordered.slice(1).map((s, i) => x(s.due) - x(ordered[i]?.due ?? 0));
  const BAR = Math.max(9, Math.min(26, Math.min(...gaps.filter((g) => g > 2), 99) - 8));
  const roomy = BAR >= 24;
  const lefts = spread(
    ordered.map((s) => x(s.due)),
    BAR + (roomy ? 9 : 3),
    W - BAR - 8,
  );
  const fill = (s: Slot) =>
    s.state === "held" || s.state === "stopped"
      ? "var(--color-poppy)"
      : s.state === "gone"
        ? "var(--color-strong)"
        : "#aebbe2";
  return (
    <svg
      viewBox={`0 0 ${W} ${H}`}
      className="block w-full rounded border border-rule bg-panel"
      role="img"
      aria-label={`Timeline: ${ordered.map((s) => `${s.label} ${weekday(s.due)} ${clockTime(s.due)}, ${count(s.people)} people, ${s.state}`).join("; ")}`}
    >
      <defs>
        <pattern id="again" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="7" height="7" fill="#dfe4f4" />
          <rect width="3.4" height="7" fill="#aebbe2" />
        </pattern>
      </defs>
      {days.map((d, i) => (
        <g key={d}>
          <rect x={x(d)} y={TOP} width={x(d + 8 * 3600) - x(d)} height={FLOOR - TOP} fill="var(--color-wash)" />
          <rect
            x={x(d + 22 * 3600)}
            y={TOP}
            width={x(d + 86400) - x(d + 22 * 3600)}
            height={FLOOR - TOP}
            fill="var(--color-wash)"
          />
          {i > 0 && <line x1={x(d)} x2={x(d)} y1={0} y2={H} stroke="var(--color-rule)" />}
          <text x={x(d) + 8} y={18} fontSize="12.5" fill="var(--color-ink-2)">
            {days.length > 8 ? weekday(d).split(" ").slice(1).join(" ") : weekday(d)}
          </text>
        </g>
      ))}
      <line x1={0} x2={W} y1={FLOOR} y2={FLOOR} stroke="var(--color-rule-strong)" />
      {ordered.map((s, i) => {
        const h = Math.max(s.people ? 8 : 14, ((FLOOR - TOP - 26) * s.people) / most);
        const left = lefts[i] ?? 0;
        const done = s.people ? (h * s.handed) / s.people : 0;
        const open = s.resend && !s.people;
        return (
          <g key={s.key}>
            <title>{`${s.label}, ${weekday(s.due)} ${clockTime(s.due)}: ${open ? "whoever has not answered by then" : `${count(s.people)} people`}, ${s.state}`}</title>
            <rect
              x={left}
              y={FLOOR - h}
              width={BAR}
              height={h}
              rx="2"
              fill={s.resend && s.state !== "gone" ? "url(#again)" : fill(s)}
              stroke={open ? "#aebbe2" : "none"}
              strokeDasharray={open ? "3 2" : undefined}
            />
            {s.state === "going out" && (
              <rect x={left} y={FLOOR - done} width={BAR} height={done} fill="var(--color-cornflower)" />
            )}
            <text
              x={left + BAR / 2}
              y={FLOOR - h - 6}
              textAnchor="middle"
              fontSize="12.5"
              fontWeight="600"
              fill="var(--color-ink)"
            >
              {s.label}
            </text>
            <text x={left + BAR / 2} y={FLOOR + 17} textAnchor="middle" fontSize="12" fill="var(--color-ink-2)">
              {roomy ? clockTime(s.due) : s.resend ? "↻" : ""}
            </text>
            <text x={left + BAR / 2} y={FLOOR + 32} textAnchor="middle" fontSize="11.5" fill="var(--color-ink-3)">
              {!roomy
                ? ""
                : s.resend
                  ? "again"
                  : s.people >= 10000
                    ? `${Math.round(s.people / 1000)}k`
                    : count(s.people)}
            </text>
          </g>
        );
      })}
      <line x1={x(now)} x2={x(now)} y1={TOP - 6} y2={FLOOR} stroke="var(--color-poppy)" strokeWidth="1.6" />
      <text x={x(now) + 4} y={TOP + 6} fontSize="11.5" fill="var(--color-poppy)">
        now
      </text>
    </svg>
  );
}
