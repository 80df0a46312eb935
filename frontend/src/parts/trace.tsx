import { traceInWords } from "../logic/bands";

/** A row of small marks, one a message, oldest first: height and fill say what became of it. */
export function Trace({ trace, length = 24 }: { trace: string; length?: number }) {
  const shown = trace.slice(-length);
  const look: Record<string, [number, string, boolean]> = {
    c: [11, "var(--color-strong)", true],
    o: [8, "var(--color-steady)", true],
    m: [8, "var(--color-masked)", false],
    n: [2, "var(--color-rule-strong)", true],
    b: [5, "var(--color-poppy)", true],
  };
  return (
    <svg role="img" aria-label={traceInWords(shown)} width={length * 5} height={13} className="block">
      <title>{traceInWords(shown)}</title>
      {[...shown].map((letter, i) => {
        const [h, colour, full] = look[letter] ?? [2, "gray", true];
        const x = (length - shown.length + i) * 5;
        if (letter === "b")
          return <path key={i} d={`M${x + 0.5} 8.5l3 3m0-3l-3 3`} stroke={colour} strokeWidth={1.2} />;
        return full ? (
          <rect key={i} x={x} y={12 - h} width={3.4} height={h} fill={colour} />
        ) : (
          <rect key={i} x={x + 0.5} y={12.5 - h} width={2.4} height={h - 1} fill="none" stroke={colour} />
        );
      })}
    </svg>
  );
}
