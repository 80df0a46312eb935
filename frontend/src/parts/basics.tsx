import { Dialog as RadixDialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { NavLink } from "react-router";
import { BAND_CLASS, BAND_MEANS, BANDS, traceInWords } from "../logic/bands";
import { count, share } from "../logic/format";
import { BandLegend } from "./band-legend";
import { ProviderName } from "./provider";

/** The work area with its right side for "what this means". */
export function Page({
  title,
  lead,
  acts,
  side,
  tabs,
  children,
  tag,
}: {
  title: ReactNode;
  lead?: ReactNode;
  acts?: ReactNode;
  side?: ReactNode;
  tabs?: ReactNode;
  children: ReactNode;
  tag?: ReactNode;
}) {
  return (
    <div className="flex h-full min-h-0 max-[900px]:block max-[900px]:overflow-auto print:block print:h-auto">
      <main className="relative min-w-0 flex-1 overflow-auto px-6 pt-5 pb-8 max-[640px]:px-4 print:overflow-visible">
        <header className="mb-3 flex min-h-8 items-start justify-between gap-6 max-[640px]:flex-wrap max-[640px]:gap-2">
          <div>
            <h1 className="flex flex-wrap items-center gap-x-3 gap-y-1">
              {title}
              {tag}
            </h1>
            {lead && <p className="mt-1.5 text-ink-2">{lead}</p>}
          </div>
          {acts && (
            <div className="flex shrink-0 flex-wrap justify-end gap-2 max-[640px]:shrink max-[640px]:justify-start print:hidden">
              {acts}
            </div>
          )}
        </header>
        {tabs}
        {children}
      </main>
      {side && (
        <aside className="relative w-[326px] shrink-0 overflow-auto border-l border-rule-strong bg-panel px-5 py-5 print:w-full print:overflow-visible print:border-0 max-[900px]:w-full max-[900px]:border-t max-[900px]:border-l-0">
          {side}
        </aside>
      )}
    </div>
  );
}

export function Tabs({ of }: { of: { to: string; words: string; extra?: ReactNode }[] }) {
  return (
    <nav
      className="mb-4 flex gap-5 border-b border-rule max-[900px]:overflow-x-auto max-[900px]:overflow-y-hidden max-[900px]:whitespace-nowrap print:hidden"
      aria-label="Pages in this section"
    >
      {of.map((t) => (
        <NavLink
          key={t.to}
          to={t.to}
          replace
          className={({ isActive }) =>
            `-mb-px border-b-2 pb-2 ${isActive ? "border-ink font-semibold text-ink" : "border-transparent text-ink-2 hover:text-ink"}`
          }
        >
          {t.words}
          {t.extra && <span className="ml-1.5 text-[13px] font-normal text-clover">{t.extra}</span>}
        </NavLink>
      ))}
    </nav>
  );
}

export function Quiet({ children }: { children: ReactNode }) {
  return <p className="max-w-[60ch] py-6 text-ink-2">{children}</p>;
}

/** Loading and failure of a view, in words. */
export function Waiting({ error, what }: { error: Error | null; what: string }) {
  if (!error) return <Quiet>Working out {what}…</Quiet>;
  return (
    <div className="max-w-[60ch] py-6" role="alert">
      <p className="font-semibold text-poppy">{error.message}</p>
      <button type="button" className="btn mt-3" onClick={() => location.reload()}>
        Reload
      </button>
    </div>
  );
}

export function Sentence({ error }: { error: Error | null | undefined }) {
  return error ? (
    <p role="alert" className="mt-2 text-poppy">
      {error.message}
    </p>
  ) : null;
}

export function BandMark({ band, size = 12 }: { band: number; size?: number }) {
  return (
    <span
      aria-hidden
      className={`inline-block shrink-0 rounded-[2px] ${BAND_CLASS[band]}`}
      style={{ width: size, height: size }}
    />
  );
}

export function BandWord({ band }: { band: number }) {
  return (
    <span className="inline-flex items-center gap-1.5" title={BAND_MEANS[band]}>
      <BandMark band={band} /> {BANDS[band]}
    </span>
  );
}

/** One bar divided by band, with its figures in words for those who cannot see it. */
export function BandBar({ bands, height = 12 }: { bands: number[]; height?: number }) {
  const total = bands.reduce((a, b) => a + b, 0);
  const words = bands
    .map((n, i) => (n ? `${BANDS[i]} ${count(n)}` : ""))
    .filter(Boolean)
    .join(", ");
  return (
    <span
      role="img"
      aria-label={words || "no one"}
      title={words}
      className="flex w-full overflow-hidden rounded-[2px] bg-wash"
      style={{ height }}
    >
      {bands.map(
        (n, i) => n > 0 && <span key={BANDS[i]} className={BAND_CLASS[i]} style={{ width: `${(100 * n) / total}%` }} />,
      )}
    </span>
  );
}

/** How many are in each band, and what the bands mean. */
export function BandList({ bands }: { bands: number[] }) {
  const total = bands.reduce((a, b) => a + b, 0);
  return (
    <>
      <table className="lined">
        <tbody>
          {bands.map((n, i) => (
            <tr key={BANDS[i]}>
              <td>
                <BandWord band={i} />
              </td>
              <td className="n">{count(n)}</td>
              <td className="n w-16 text-ink-2">{share(n, total)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <BandLegend />
    </>
  );
}

/** How people are spread over the mailbox providers, those with nobody left out. */
export function ByProvider({
  of,
  total,
  title = "By provider",
}: {
  of: { words: string; count: number }[];
  total: number;
  title?: string;
}) {
  return (
    <>
      <h2 className="mt-5 mb-1">{title}</h2>
      <table className="lined">
        <tbody>
          {of
            .filter((p) => p.count)
            .map((p) => (
              <tr key={p.words}>
                <td>
                  <ProviderName name={p.words} />
                </td>
                <td className="n">{count(p.count)}</td>
                <td className="n w-16 text-ink-2">{share(p.count, total)}</td>
              </tr>
            ))}
        </tbody>
      </table>
    </>
  );
}

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

/** The breakdown: bars that shrink, each clause with what is left. */
export function Exclusions({ rows }: { rows: { words: string; count: number }[] }) {
  const top = rows[0]?.count || 1;
  let left = top;
  return (
    <ol>
      {rows.map((r, i) => {
        const total = r.count >= 0;
        if (!total) left += r.count;
        else left = r.count;
        return (
          <li key={i} className="mb-1.5">
            <div className="flex justify-between gap-3">
              <span className={total ? "" : "text-ink-2"}>{r.words}</span>
              <span className={total ? "font-semibold" : "text-ink-2"}>{count(r.count)}</span>
            </div>
            <div className="mt-0.5 h-[6px] bg-wash" aria-hidden>
              <div
                className={`h-full ${i === rows.length - 1 ? "bg-cornflower" : "bg-ink-2"}`}
                style={{ width: `${(100 * left) / Math.max(top, 1)}%` }}
              />
            </div>
          </li>
        );
      })}
    </ol>
  );
}

/** Ask once before an outward act: what will happen, in numbers. */
export function Ask({
  trigger,
  title,
  children,
  act,
  words,
  grave,
  disabled,
  opened,
}: {
  trigger: ReactNode;
  title: string;
  children: ReactNode;
  act: () => Promise<unknown>;
  words: string;
  grave?: boolean;
  disabled?: boolean;
  opened?: (open: boolean) => void;
}) {
  const [open, setOpen] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  const [busy, setBusy] = useState(false);
  return (
    <RadixDialog.Root
      open={open}
      onOpenChange={(o) => {
        setOpen(o);
        opened?.(o);
        setError(null);
      }}
    >
      <RadixDialog.Trigger asChild>{trigger}</RadixDialog.Trigger>
      <RadixDialog.Portal>
        <RadixDialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <RadixDialog.Content
          className="fixed top-[18vh] left-1/2 z-50 max-h-[78vh] w-[min(520px,92vw)] -translate-x-1/2 overflow-auto rounded border border-rule-strong bg-panel p-6 shadow-xl"
          aria-describedby={undefined}
        >
          <RadixDialog.Title className="mb-2 text-[18px]">{title}</RadixDialog.Title>
          <div className="mb-5 text-ink-2">{children}</div>
          <Sentence error={error} />
          <div className="mt-4 flex justify-end gap-2">
            <RadixDialog.Close className="btn">Cancel</RadixDialog.Close>
            <button
              type="button"
              className={`btn ${grave ? "btn-grave" : "btn-main"}`}
              disabled={busy || disabled}
              onClick={async () => {
                setBusy(true);
                try {
                  await act();
                  setOpen(false);
                } catch (e) {
                  setError(e as Error);
                } finally {
                  setBusy(false);
                }
              }}
            >
              {words}
            </button>
          </div>
        </RadixDialog.Content>
      </RadixDialog.Portal>
    </RadixDialog.Root>
  );
}

const STATE_TAG: Record<string, string> = {
  pass: "tag-good",
  warning: "tag-warning",
  fail: "tag-fail",
  draft: "tag-plain",
  scheduled: "tag-active",
  queued: "tag-plain",
  sending: "tag-active",
  running: "tag-active",
  paused: "tag-warning",
  ended: "tag-plain",
  finished: "tag-good",
  sent: "tag-good",
  stopped: "tag-fail",
  waiting: "tag-plain",
  unknown: "tag-plain",
  "within limit": "tag-good",
  "near limit": "tag-warning",
  "over limit": "tag-fail",
};

export function StateTag({ state, words }: { state: string; words?: string }) {
  return (
    <span className={`tag font-sans ${STATE_TAG[state] ?? "tag-plain"}`} style={{ fontStretch: "100%" }}>
      {words ?? state}
    </span>
  );
}
