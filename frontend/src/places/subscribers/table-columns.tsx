import type { ReactNode } from "react";
import { useState } from "react";
import type { M } from "../../api/client";
import { count, duration } from "../../logic/format";
import type { Times } from "../../logic/times";
import { BandWord } from "../../parts/bands";
import { Close, Dialog } from "../../parts/dialog";
import { Trace } from "../../parts/trace";

type Row = M["Row"];

export interface Column {
  id: string;
  words: string;
  sort?: string;
  width: number;
  right?: boolean;
  cell: (r: Row, now: number, times: Times) => ReactNode;
}

const VERDICT = {
  deliverable: "text-clover",
  risky: "text-wheat",
  undeliverable: "text-poppy",
  unknown: "text-ink-2",
} as Record<string, string>;

export const COLUMNS: Column[] = [
  { id: "trace", words: "Last 24 messages", width: 136, cell: (r) => <Trace trace={r.trace} /> },
  {
    id: "score",
    words: "Score",
    sort: "score",
    width: 62,
    right: true,
    cell: (r) => (r.band >= 4 ? <span className="text-ink-3">{r.score.toFixed(0)}</span> : <b>{r.score.toFixed(0)}</b>),
  },
  { id: "band", words: "Band", sort: "band", width: 108, cell: (r) => <BandWord band={r.band} /> },
  {
    id: "last_engaged",
    words: "Last engaged",
    sort: "last_engaged",
    width: 96,
    right: true,
    cell: (r, now) => (r.last_engaged ? duration(now - r.last_engaged) : "never"),
  },
  {
    id: "ignored",
    words: "Ignored",
    sort: "ignored",
    width: 96,
    right: true,
    cell: (r) => count(r.ignored),
  },
  {
    id: "joined",
    words: "Joined",
    sort: "joined_at",
    width: 104,
    right: true,
    cell: (r, _, { day }) => day(r.joined_at),
  },
  { id: "provider", words: "Provider", sort: "provider", width: 112, cell: (r) => r.provider },
  { id: "source", words: "Source", sort: "source", width: 140, cell: (r) => r.source },
  { id: "lists", words: "Lists", width: 150, cell: (r) => r.lists.join(", ") },
  { id: "labels", words: "Labels", width: 120, cell: (r) => r.labels.join(", ") },
  {
    id: "verdict",
    words: "Address check",
    width: 84,
    cell: (r) =>
      r.verdict ? (
        <span className={VERDICT[r.verdict]}>{r.verdict}</span>
      ) : (
        <span className="text-ink-3">unchecked</span>
      ),
  },
  { id: "language", words: "Language", width: 84, cell: (r) => r.language },
  { id: "country", words: "Country", width: 76, cell: (r) => r.country },
  { id: "time_zone", words: "Time zone", width: 124, cell: (r) => r.time_zone },
];

export const fieldColumn = (name: string): Column => ({
  id: `field:${name}`,
  words: name,
  width: 120,
  cell: (r) => r.fields[name] ?? "",
});

export const consentColumn = (purpose: string): Column => ({
  id: `consent:${purpose}`,
  words: `Consent: ${purpose}`,
  width: 130,
  cell: (r) => {
    const state = r.consents[purpose] ?? "none";
    return <span className={CONSENT[state] ?? ""}>{state}</span>;
  },
});
const CONSENT: Record<string, string> = { given: "text-clover", withdrawn: "text-poppy", none: "text-ink-2" };

export interface Layout {
  shown: string[];
  widths: Record<string, number>;
}

const USUAL: Layout = { shown: ["trace", "score", "band", "last_engaged", "ignored", "joined"], widths: {} };
const KEPT = "meadow.table";

/** The columns this reader chose, in their order and widths; kept in the browser. */
export function useLayout(): [Layout, (l: Layout) => void] {
  const [layout, setLayout] = useState<Layout>(() => {
    try {
      return { ...USUAL, ...(JSON.parse(localStorage.getItem(KEPT) ?? "{}") as Partial<Layout>) };
    } catch {
      return USUAL;
    }
  });
  return [
    layout,
    (l) => {
      localStorage.setItem(KEPT, JSON.stringify(l));
      setLayout(l);
    },
  ];
}

/** Choose columns and their order. */
export function ChooseColumns({ layout, set, every }: { layout: Layout; set: (l: Layout) => void; every: Column[] }) {
  const shown = layout.shown.flatMap((id) => every.find((c) => c.id === id) ?? []);
  const rest = every.filter((c) => !layout.shown.includes(c.id));
  const move = (id: string, by: number) => {
    const order = [...layout.shown];
    const at = order.indexOf(id);
    order.splice(at, 1);
    order.splice(Math.max(0, at + by), 0, id);
    set({ ...layout, shown: order });
  };
  return (
    <Dialog
      trigger={
        <button type="button" className="btn">
          Columns…
        </button>
      }
      title="Columns of the table"
    >
      <p className="mb-3 text-small text-ink-2">Saved in this browser. Drag a heading's edge to change its width.</p>
      <ul>
        {[...shown, ...rest].map((c) => {
          const on = layout.shown.includes(c.id);
          return (
            <li key={c.id} className="flex items-center gap-2 border-b border-rule py-1">
              <label className="flex flex-1 items-center gap-2">
                <input
                  type="checkbox"
                  checked={on}
                  onChange={() =>
                    set({ ...layout, shown: on ? layout.shown.filter((x) => x !== c.id) : [...layout.shown, c.id] })
                  }
                />
                {c.words}
              </label>
              {on && (
                <>
                  <button
                    type="button"
                    className="btn btn-bare py-0"
                    aria-label={`Move ${c.words} left`}
                    onClick={() => move(c.id, -1)}
                  >
                    ↑
                  </button>
                  <button
                    type="button"
                    className="btn btn-bare py-0"
                    aria-label={`Move ${c.words} right`}
                    onClick={() => move(c.id, 1)}
                  >
                    ↓
                  </button>
                </>
              )}
            </li>
          );
        })}
      </ul>
      <div className="mt-4 flex justify-between">
        <button type="button" className="btn" onClick={() => set(USUAL)}>
          Reset
        </button>
        <Close main>Done</Close>
      </div>
    </Dialog>
  );
}

/** A column's heading: sorts when pressed, and is as wide as its edge is dragged. */
export function Heading({
  column,
  width,
  sort,
  onSort,
  onWidth,
}: {
  column: Column;
  width: number;
  sort: string;
  onSort: (s: string) => void;
  onWidth: (px: number) => void;
}) {
  const by = column.sort;
  return (
    <div className={`relative shrink-0 truncate py-1.5 ${column.right ? "pr-3 text-right" : "pr-2"}`} style={{ width }}>
      {by ? (
        <button
          type="button"
          className="font-semibold hover:text-ink"
          aria-label={`Sort by ${column.words}`}
          onClick={() => onSort(sort === `-${by}` ? by : `-${by}`)}
        >
          {column.words}
          {sort === by ? " ↑" : sort === `-${by}` ? " ↓" : ""}
        </button>
      ) : (
        column.words
      )}
      <span
        aria-hidden
        className="absolute top-1 right-0 bottom-1 w-[5px] cursor-col-resize border-r border-rule hover:border-cornflower"
        onPointerDown={(e) => {
          const from = e.clientX;
          const target = e.currentTarget;
          target.setPointerCapture(e.pointerId);
          target.onpointermove = (m) => onWidth(Math.max(48, Math.min(480, width + m.clientX - from)));
          target.onpointerup = () => {
            target.onpointermove = null;
          };
        }}
      />
    </div>
  );
}
