import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { BAND_FILL, BANDS } from "../../logic/bands";
import { count, moment, share } from "../../logic/format";
import { type Cell, cellKey, rectangle, side, strips } from "../../logic/map";
import { BandList, BandMark, ByProvider, Page, Quiet, Sieve, Waiting } from "../../parts/basics";
import { useKeys } from "../../parts/me";
import { Patterns } from "../../parts/patterns";
import { SubscriberTabs } from "./tabs";

const CELL_W = 100,
  CELL_H = 62,
  GAP = 3;

export function MapPage() {
  const q = useQuery({ queryKey: ["map"], queryFn: () => get<M["MapView"]>("/subscribers/map") });
  const [anchor, setAnchor] = useState<Cell | null>(null);
  const [end, setEnd] = useState<Cell | null>(null);
  const [dragging, setDragging] = useState(false);
  const [purpose, setPurpose] = useState("");
  const chosen = useMemo(() => (anchor && end ? rectangle(anchor, end) : []), [anchor, end]);
  const selection = useQuery({
    queryKey: ["selection", chosen, purpose],
    queryFn: ({ signal }) => post<M["SelectionView"]>("/subscribers/map/selection", { cells: chosen, purpose }, signal),
    placeholderData: keepPreviousData,
    enabled: chosen.length > 0 && !dragging,
  });
  const clear = () => {
    setAnchor(null);
    setEnd(null);
  };
  useKeys(
    chosen.length
      ? [{ key: "Escape", words: "clear the selection", act: () => (chosen.length ? clear() : history.back()) }]
      : [],
  );
  if (!q.data)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Waiting error={q.error} what="the map" />
      </Page>
    );
  const d = q.data;
  if (!d.subscribers)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Quiet>
          Nobody is here yet.{" "}
          <Link className="text-cornflower underline" to="/subscribers/bring-in">
            Bring in a CSV of subscribers
          </Link>
          ; the map fills as soon as their history is there too.
        </Quiet>
      </Page>
    );
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead={`${count(d.subscribers)} subscribers, placed by how long ago they last answered and how many messages in a row they have left unanswered since.`}
      side={
        chosen.length ? (
          <SelectionSide
            data={selection.data}
            stale={selection.isPlaceholderData || dragging}
            setPurpose={setPurpose}
            clear={clear}
            now={d.now}
            error={selection.error}
          />
        ) : (
          <Everybody d={d} />
        )
      }
    >
      <Grid
        d={d}
        chosen={new Set(chosen.map(cellKey))}
        anchor={anchor}
        end={end}
        start={(c) => {
          setAnchor(c);
          setEnd(c);
        }}
        extend={setEnd}
        drag={setDragging}
      />
      <p className="mt-3 flex flex-wrap gap-x-5 gap-y-1">
        {BANDS.map((b, i) => (
          <span key={b} className="inline-flex items-center gap-1.5">
            <BandMark band={i} /> {b} {count(d.totals[i] ?? 0)}
          </span>
        ))}
      </p>
    </Page>
  );
}

function Grid({
  d,
  chosen,
  anchor,
  end,
  start,
  extend,
  drag,
}: {
  d: M["MapView"];
  chosen: Set<string>;
  anchor: Cell | null;
  end: Cell | null;
  start: (c: Cell) => void;
  extend: (c: Cell) => void;
  drag: (on: boolean) => void;
}) {
  const grid = useRef<HTMLDivElement>(null);
  const pressed = useRef(false);
  const cols = d.day_words.length,
    rows = d.left_words.length;
  const fullest = Math.max(...d.grid.flatMap((c) => c.map((r) => r.reduce((a, b) => a + b, 0))));
  const focus = (c: number, r: number) => grid.current?.querySelector<HTMLElement>(`[data-cell="${c}:${r}"]`)?.focus();
  const move = (e: React.KeyboardEvent, c: number, r: number) => {
    const step = (
      { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] } as Record<string, number[]>
    )[e.key];
    if (step) {
      const next: Cell = [
        Math.max(0, Math.min(cols - 1, c + (step[0] ?? 0))),
        Math.max(0, Math.min(rows - 1, r + (step[1] ?? 0))),
      ];
      focus(...next);
      if (e.shiftKey) {
        if (!anchor) start([c, r]);
        extend(next);
      }
    } else if (e.key === " " || e.key === "Enter") start([c, r]);
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  const order = Array.from({ length: rows }, (_, i) => rows - 1 - i);
  return (
    <div
      ref={grid}
      role="grid"
      aria-label="Days since the last answer by messages left unanswered"
      aria-multiselectable
      className="grid select-none"
      style={{ gridTemplateColumns: `74px repeat(${cols}, minmax(0, 1fr))`, gap: GAP }}
      onPointerUp={() => {
        pressed.current = false;
        drag(false);
      }}
      onPointerLeave={() => {
        pressed.current = false;
        drag(false);
      }}
    >
      <span className="self-end pb-1 text-[12px] leading-tight text-ink-3">
        left un-
        <br />
        answered
      </span>
      {d.day_words.map((w, i) => (
        <span key={w} className="self-end pb-1 text-center text-[13px] text-ink-2">
          {w}
          {i === 0 ? "" : ""}
        </span>
      ))}
      {order.map((r) => (
        <div key={r} role="row" className="contents">
          <span className="self-center pr-3 text-right text-[13px] text-ink-2">{d.left_words[r]}</span>
          {d.day_words.map((w, c) => {
            const bands = d.grid[c]?.[r] ?? [];
            const n = bands.reduce((a, b) => a + b, 0);
            const on = chosen.has(cellKey([c, r]));
            const size = side(n, fullest) * (CELL_H - 8);
            return (
              <div
                key={w}
                role="gridcell"
                data-cell={`${c}:${r}`}
                tabIndex={(end ?? [0, 0])[0] === c && (end ?? [0, 0])[1] === r ? 0 : -1}
                aria-selected={on}
                aria-label={`${w}, ${d.left_words[r]} unanswered: ${count(n)} people`}
                className={`relative ${on ? "bg-cornflower-pale outline-2 -outline-offset-2 outline-cornflower" : "bg-wash hover:bg-[#e9e4d5]"}`}
                style={{ height: CELL_H, minWidth: 0 }}
                onPointerDown={(e) => {
                  pressed.current = true;
                  drag(true);
                  if (e.shiftKey && anchor) extend([c, r]);
                  else start([c, r]);
                }}
                onPointerEnter={() => pressed.current && extend([c, r])}
                onKeyDown={(e) => move(e, c, r)}
              >
                {n > 0 && (
                  <svg
                    className="pointer-events-none absolute top-1 left-1.5"
                    width={CELL_W / 2 + 8}
                    height={CELL_H - 8}
                    aria-hidden
                  >
                    <Patterns />
                    {strips(bands).map(([band, from, to]) => (
                      <rect
                        key={band}
                        x={from * size}
                        y={CELL_H - 8 - size}
                        width={(to - from) * size}
                        height={size}
                        fill={BAND_FILL[band]}
                      />
                    ))}
                  </svg>
                )}
                {n > 0 && (
                  <span className="pointer-events-none absolute right-1.5 bottom-0.5 text-[12.5px] text-ink-2">
                    {count(n)}
                  </span>
                )}
              </div>
            );
          })}
        </div>
      ))}
      <span />
      <p className="col-span-8 pt-1 text-[13px] text-ink-3">
        Days since the last open, click, reply or booking by a person. Drag over cells, or use the arrows with Shift, to
        choose people.
      </p>
    </div>
  );
}

function Everybody({ d }: { d: M["MapView"] }) {
  return (
    <>
      <h2 className="mb-1">Everybody, by band</h2>
      <BandList bands={d.totals} />
      <p className="mt-4 text-[13px] text-ink-2">
        This workspace sends to the same person every {d.gap_days} days on the median, so nobody is called inactive
        before {d.window_days} days without an answer. Unproven and Veiled stand off the scale: too new to judge, or
        read where nobody can see it. {share((d.totals[4] ?? 0) + (d.totals[5] ?? 0), d.subscribers)} of people are
        there.
      </p>
    </>
  );
}

function SelectionSide({
  data,
  stale,
  setPurpose,
  clear,
  now,
  error,
}: {
  data: M["SelectionView"] | undefined;
  stale: boolean;
  setPurpose: (p: string) => void;
  clear: () => void;
  now: number;
  error: Error | null;
}) {
  const go = useNavigate();
  if (!data) return <Waiting error={error} what="the selection" />;
  return (
    <div className={stale ? "opacity-50" : ""}>
      <div className="mb-2 flex items-baseline justify-between">
        <h2>The {count(data.count)} in your selection</h2>
        <button type="button" className="btn btn-bare py-0" onClick={clear}>
          Clear
        </button>
      </div>
      <BandList bands={data.bands} />
      {data.purposes.length > 0 && (
        <>
          <div className="mt-5 mb-2 flex items-center justify-between gap-3">
            <h2 className="shrink-0">May be mailed</h2>
            <select
              className="field w-auto py-0.5"
              aria-label="Purpose"
              value={data.purpose}
              onChange={(e) => setPurpose(e.target.value)}
            >
              {data.purposes.map((p) => (
                <option key={p}>{p}</option>
              ))}
            </select>
          </div>
          <Sieve rows={data.sieve} />
        </>
      )}
      <ByProvider of={data.providers} total={data.count} />
      {data.rule ? (
        <>
          <p className="mt-4 text-[13px] text-ink-2">
            As a rule: <em>{data.rule}</em>
          </p>
          <div className="mt-3 flex flex-wrap gap-2">
            <button
              type="button"
              className="btn btn-main"
              onClick={() => go(`/segments/new?rule=${encodeURIComponent(data.rule)}`)}
            >
              Keep this rule
            </button>
            <Link className="btn" to={`/subscribers/table?rule=${encodeURIComponent(data.rule)}`}>
              See them in the table
            </Link>
          </div>
        </>
      ) : null}
      <p className="mt-4 text-[13px] text-ink-3">As of {moment(now)}.</p>
    </div>
  );
}
