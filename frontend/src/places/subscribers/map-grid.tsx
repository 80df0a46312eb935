import { Slider } from "radix-ui";
import { useMemo, useRef, useState } from "react";
import type { M } from "../../api/client";
import { BAND_FILL } from "../../logic/bands";
import { columnAt, drawnOf, nearest, type Rect, rectOf, rowAt, type Shape } from "../../logic/cutoff";
import { count } from "../../logic/format";
import { side, strips } from "../../logic/map";
import { Patterns } from "../../parts/patterns";

const CELL_H = 47,
  GAP = 3,
  STEPS = 1000; // of a handle's way along one drawn cell
const LEFT = 74;

type Corner = readonly [number, number];

/** People as squares divided by band; drag over cells, or move the two cut-off handles. */
export function MapGrid({
  d,
  shape,
  rect,
  handles,
  choose,
  cut,
}: {
  d: M["MapView"];
  shape: Shape;
  rect: Rect | null;
  handles: { column: number; row: number };
  choose: (r: Rect) => void;
  cut: (column: number, row: number) => void;
}) {
  const grid = useRef<HTMLDivElement>(null);
  const pressed = useRef(false);
  const anchor = useRef<Corner | null>(null);
  const [at, setAt] = useState<Corner>([0, 0]);
  const cols = d.day_words.length,
    rows = d.left_words.length;
  const drawn = useMemo(() => {
    const out = Array.from({ length: cols }, () =>
      Array.from({ length: rows }, () => new Array<number>(d.groups.band.words.length).fill(0)),
    );
    const cells = d.groups.band.cells;
    for (let i = 0; i < cells.length; i += 3) {
      const cell = cells[i] as number;
      const [c, r] = drawnOf(shape, Math.floor(cell / shape.left.length), cell % shape.left.length);
      const bands = out[c]?.[r];
      if (bands) bands[cells[i + 1] as number] = (bands[cells[i + 1] as number] ?? 0) + (cells[i + 2] as number);
    }
    return out;
  }, [d, shape, cols, rows]);
  const sum = (bands: number[]) => bands.reduce((a, b) => a + b, 0);
  const fullest = Math.max(...drawn.flatMap((c) => c.map(sum)), 1);
  const start = (c: Corner) => {
    anchor.current = c;
    setAt(c);
    choose(rectOf(shape, c, c));
  };
  const extend = (c: Corner) => {
    setAt(c);
    choose(rectOf(shape, anchor.current ?? c, c));
  };
  const move = (e: React.KeyboardEvent, c: number, r: number) => {
    const step = (
      { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] } as Record<string, number[]>
    )[e.key];
    if (step) {
      const next: Corner = [
        Math.max(0, Math.min(cols - 1, c + (step[0] ?? 0))),
        Math.max(0, Math.min(rows - 1, r + (step[1] ?? 0))),
      ];
      if (e.shiftKey) {
        if (!anchor.current) anchor.current = [c, r];
        extend(next);
      } else setAt(next);
      grid.current?.querySelector<HTMLElement>(`[data-cell="${next[0]}:${next[1]}"]`)?.focus();
    } else if (e.key === " " || e.key === "Enter") start([c, r]);
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  const chosen = (c: number, r: number) => {
    if (!rect) return false;
    const cell = rectOf(shape, [c, r], [c, r]);
    return cell.c0 >= rect.c0 && cell.c1 <= rect.c1 && cell.r0 >= rect.r0 && cell.r1 <= rect.r1;
  };
  const column = (i: number) => columnAt(shape, i),
    row = (i: number) => rowAt(shape, i);
  const days = shape.days[handles.column];
  const stop = () => {
    pressed.current = false;
  };
  const slide = (index: number, most: number, key: string): number | null => {
    const by = { ArrowRight: 1, ArrowUp: 1, ArrowLeft: -1, ArrowDown: -1, PageUp: 6, PageDown: -6 }[key];
    return by === undefined ? null : Math.max(0, Math.min(most, index + by));
  };
  return (
    <div className="select-none" style={{ display: "grid", gridTemplateColumns: `${LEFT}px 1fr 22px` }}>
      <span className="self-end pb-1 text-tiny leading-tight text-ink-3">
        messages
        <br />
        ignored
      </span>
      <div className="grid" style={{ gridTemplateColumns: `repeat(${cols}, minmax(0, 1fr))`, gap: GAP }}>
        {d.day_words.map((w) => (
          <span key={w} className="self-end pb-1 text-center text-small text-ink-2">
            {w}
          </span>
        ))}
      </div>
      <span />
      <div className="grid" style={{ gap: GAP }} aria-hidden>
        {d.left_words.toReversed().map((w) => (
          <span key={w} className="self-center pr-3 text-right text-small text-ink-2">
            {w}
          </span>
        ))}
      </div>
      <div
        ref={grid}
        role="grid"
        aria-label="Days since last engagement by messages ignored since"
        aria-multiselectable
        className="relative grid"
        style={{ gridTemplateColumns: `repeat(${cols}, minmax(0, 1fr))`, gap: GAP }}
        onPointerUp={stop}
        onPointerLeave={stop}
      >
        {Array.from({ length: rows }, (_, i) => rows - 1 - i).map((r) => (
          <div key={r} role="row" className="contents">
            {d.day_words.map((w, c) => {
              const bands = drawn[c]?.[r] ?? [];
              const n = sum(bands);
              const on = chosen(c, r);
              const size = side(n, fullest) * (CELL_H - 7);
              return (
                <div
                  key={w}
                  role="gridcell"
                  data-cell={`${c}:${r}`}
                  tabIndex={at[0] === c && at[1] === r ? 0 : -1}
                  aria-selected={on}
                  aria-label={`${w}, ${d.left_words[r]} ignored: ${count(n)} people`}
                  className={`relative ${on ? "bg-chosen-map" : "bg-wash hover:bg-wash-strong"}`}
                  style={{ height: CELL_H, minWidth: 0 }}
                  onPointerDown={(e) => {
                    pressed.current = true;
                    if (e.shiftKey && anchor.current) extend([c, r]);
                    else start([c, r]);
                  }}
                  onPointerEnter={() => pressed.current && extend([c, r])}
                  onKeyDown={(e) => move(e, c, r)}
                >
                  {n > 0 && (
                    <>
                      <svg
                        className="pointer-events-none absolute top-[3px] left-1.5"
                        width={CELL_H}
                        height={CELL_H - 6}
                        aria-hidden
                      >
                        <Patterns />
                        {strips(bands).map(([band, from, to]) => (
                          <rect
                            key={band}
                            x={from * size}
                            y={CELL_H - 7 - size}
                            width={(to - from) * size}
                            height={size}
                            fill={BAND_FILL[band]}
                          />
                        ))}
                      </svg>
                      <span className="pointer-events-none absolute right-1.5 bottom-0.5 text-small text-ink-2">
                        {count(n)}
                      </span>
                    </>
                  )}
                </div>
              );
            })}
          </div>
        ))}
        {rect && <Outline shape={shape} rect={rect} cols={cols} rows={rows} />}
      </div>
      <Slider.Root
        className="relative ml-2 flex w-4 touch-none justify-center"
        orientation="vertical"
        min={0}
        max={rows * STEPS}
        value={[row(handles.row) * STEPS]}
        onValueChange={([v]) => cut(handles.column, nearest(row, shape.left.length, (v ?? 0) / STEPS))}
      >
        <Slider.Track className="relative h-full w-px bg-rule-strong" />
        <Slider.Thumb
          aria-label="Cut-off: messages ignored"
          aria-valuetext={`${shape.left[handles.row]} or more ignored`}
          className="block h-[13px] w-[18px] rounded-[3px] border-[1.5px] border-inactive bg-panel"
          onKeyDown={(e) => {
            const next = slide(handles.row, shape.left.length - 1, e.key);
            if (next === null) return;
            e.preventDefault();
            e.stopPropagation();
            cut(handles.column, next);
          }}
        />
      </Slider.Root>
      <span />
      <div className="pt-2">
        <Slider.Root
          className="relative flex h-4 touch-none items-center"
          min={0}
          max={cols * STEPS}
          value={[column(handles.column) * STEPS]}
          onValueChange={([v]) => cut(nearest(column, shape.days.length + 1, (v ?? 0) / STEPS), handles.row)}
        >
          <Slider.Track className="relative h-px grow bg-rule-strong" />
          <Slider.Thumb
            aria-label="Cut-off: days since last engagement"
            aria-valuetext={days === undefined ? "never engaged" : `not engaged in ${days} days`}
            className="block h-[18px] w-[13px] rounded-[3px] border-[1.5px] border-inactive bg-panel"
            onKeyDown={(e) => {
              const next = slide(handles.column, shape.days.length, e.key);
              if (next === null) return;
              e.preventDefault();
              e.stopPropagation();
              cut(next, handles.row);
            }}
          />
        </Slider.Root>
        <p className="flex justify-between pt-0.5 text-small text-ink-3">
          <span>Days since the last engagement by a person. Drag across cells, or move a handle.</span>
          <span>
            cut-off{" "}
            <b className="text-ink">
              {days === undefined ? "never engaged" : `${days} days`}, {shape.left[handles.row]} or more ignored
            </b>
          </span>
        </p>
      </div>
      <span />
    </div>
  );
}

/** The selection's edge, drawn where it really is: a cut-off may run through a cell. */
function Outline({ shape, rect, cols, rows }: { shape: Shape; rect: Rect; cols: number; rows: number }) {
  const x0 = columnAt(shape, rect.c0),
    x1 = columnAt(shape, rect.c1 + 1) + (rect.c1 === shape.days.length ? 1 : 0),
    y0 = rowAt(shape, rect.r0),
    y1 = rowAt(shape, rect.r1 + 1);
  const top = rect.r1 === shape.left.length - 1 ? rows : y1;
  const right = Math.min(x1, cols);
  return (
    <span
      aria-hidden
      className="pointer-events-none absolute rounded-[3px] border-[1.5px] border-inactive"
      style={{
        left: `calc(${(100 * x0) / cols}% - 2px)`,
        width: `calc(${(100 * (right - x0)) / cols}% + 2px)`,
        bottom: `calc(${(100 * y0) / rows}% - 2px)`,
        height: `calc(${(100 * (top - y0)) / rows}% + 2px)`,
      }}
    />
  );
}
