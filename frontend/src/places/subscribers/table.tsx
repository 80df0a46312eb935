import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { get, type M } from "../../api/client";
import { BANDS } from "../../logic/bands";
import { count, day, duration } from "../../logic/format";
import { BandMark, BandWord, Page, Quiet, Trace, Waiting } from "../../parts/basics";
import { useKeys } from "../../parts/me";
import { SubscriberTabs } from "./tabs";

const WINDOW = 60,
  ROW = 31;
const COLUMNS = [
  { sort: "email", words: "Subscriber", className: "min-w-[260px] flex-1" },
  { sort: "", words: "Last 24 messages", className: "w-[136px]" },
  { sort: "score", words: "Score", className: "w-[58px] text-right" },
  { sort: "band", words: "Band", className: "w-[100px] pl-4" },
  { sort: "last_answer", words: "Last answer", className: "w-[112px] text-right" },
  { sort: "unanswered", words: "Unanswered", className: "w-[96px] text-right" },
  { sort: "joined_at", words: "Joined", className: "w-[108px] text-right" },
] as const;

export function TablePage() {
  const [params, setParams] = useSearchParams();
  const go = useNavigate();
  const sort = params.get("sort") ?? "-score";
  const band = params.get("band") ?? "";
  const rule = params.get("rule") ?? "";
  const text = params.get("text") ?? "";
  const [typed, setTyped] = useState(text);
  const [at, setAt] = useState(0);
  const scroller = useRef<HTMLDivElement>(null);
  const search = useRef<HTMLInputElement>(null);
  const set = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
    scroller.current?.scrollTo({ top: 0 });
    setAt(0);
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: only what is typed starts the wait
  useEffect(() => {
    const timer = setTimeout(() => typed !== text && set("text", typed), 180);
    return () => clearTimeout(timer);
  }, [typed]);
  const query = useMemo(() => new URLSearchParams({ sort, band, rule, text }).toString(), [sort, band, rule, text]);
  const ask = (offset: number) => ({
    queryKey: ["table", query, offset],
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      get<M["Rows"]>(`/subscribers?${query}&offset=${offset}&limit=${WINDOW}`, signal),
    placeholderData: keepPreviousData,
  });
  const first = useQuery(ask(0));
  const total = first.data?.total ?? 0;
  const rows = useVirtualizer({
    count: total,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: 12,
  });
  const shown = rows.getVirtualItems();
  const windows = [...new Set(shown.map((r) => Math.floor(r.index / WINDOW)))];
  const parts = useQueries({ queries: windows.map((w) => ({ ...ask(w * WINDOW), placeholderData: undefined })) });
  const rowAt = (i: number) => parts[windows.indexOf(Math.floor(i / WINDOW))]?.data?.rows[i % WINDOW];
  const step = (by: number) => {
    const next = Math.max(0, Math.min(total - 1, at + by));
    setAt(next);
    rows.scrollToIndex(next);
  };
  useKeys([
    { key: "ArrowDown", words: "next row", act: () => step(1) },
    { key: "ArrowUp", words: "row before", act: () => step(-1) },
    { key: "PageDown", words: "a page down", act: () => step(15) },
    { key: "PageUp", words: "a page up", act: () => step(-15) },
    {
      key: "Enter",
      words: "open the person",
      act: () => {
        const r = rowAt(at);
        if (r) go(`/subscribers/${r.id}`);
      },
    },
    { key: "/", words: "", act: () => search.current?.focus() },
  ]);
  const bands = band ? band.split(",") : [];
  const now = first.data?.now ?? 0;
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead={
        first.data
          ? `${count(total)} ${rule || band || text ? "match" : "people"}, sorted by the server; scroll as far as you like.`
          : " "
      }
    >
      <div className="mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
        <input
          ref={search}
          className="field w-[230px]"
          placeholder="Part of a name or address"
          aria-label="Part of a name or address"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <fieldset className="flex flex-wrap gap-x-3" aria-label="Bands">
          {BANDS.map((b, i) => (
            <label key={b} className="flex cursor-pointer items-center gap-1.5">
              <input
                type="checkbox"
                checked={bands.includes(b)}
                onChange={(e) =>
                  set("band", (e.target.checked ? [...bands, b] : bands.filter((x) => x !== b)).join(","))
                }
              />
              <BandMark band={i} />
              {b}
            </label>
          ))}
        </fieldset>
        {rule && (
          <span className="tag tag-go max-w-full truncate">
            {rule}{" "}
            <button type="button" aria-label="Take this rule off" onClick={() => set("rule", "")} className="ml-1">
              ×
            </button>
          </span>
        )}
      </div>
      <div className="flex border-b border-rule-strong text-[13px] font-semibold text-ink-2">
        {COLUMNS.map((c) => (
          <div key={c.words} className={`py-1.5 ${c.className}`}>
            {c.sort ? (
              <button
                type="button"
                className="font-semibold hover:text-ink"
                aria-label={`Sort by ${c.words}`}
                onClick={() =>
                  set(
                    "sort",
                    sort === `-${c.sort}`
                      ? c.sort
                      : sort === c.sort
                        ? `-${c.sort}`
                        : c.sort === "email"
                          ? "email"
                          : `-${c.sort}`,
                  )
                }
              >
                {c.words}
                {sort === c.sort ? " ↑" : sort === `-${c.sort}` ? " ↓" : ""}
              </button>
            ) : (
              c.words
            )}
          </div>
        ))}
      </div>
      {first.error ? (
        <Waiting error={first.error} what="the table" />
      ) : first.data && !total ? (
        <Quiet>Nobody matches. Take a band or a part of the text off.</Quiet>
      ) : (
        <div
          ref={scroller}
          className={`overflow-auto ${first.isPlaceholderData ? "opacity-60" : ""}`}
          style={{ height: "calc(100vh - 322px)", minHeight: 260 }}
          // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keyboard
          tabIndex={0}
        >
          <div style={{ height: rows.getTotalSize(), position: "relative" }}>
            {shown.map((v) => {
              const r = rowAt(v.index);
              return (
                // biome-ignore lint/a11y/useKeyWithClickEvents: Enter opens through the page's keys
                // biome-ignore lint/a11y/noStaticElementInteractions: the row as a whole leads to the person
                <div
                  key={v.key}
                  className={`absolute right-0 left-0 flex cursor-pointer items-center border-b border-rule ${v.index === at ? "bg-cornflower-pale" : "hover:bg-wash"}`}
                  style={{ height: ROW, transform: `translateY(${v.start}px)` }}
                  onClick={() => r && go(`/subscribers/${r.id}`)}
                >
                  {r ? (
                    <>
                      <div className={`truncate pr-3 ${COLUMNS[0].className}`}>
                        <span className="font-semibold">{r.name}</span> <span className="text-ink-2">{r.email}</span>
                        {!r.permitted && <span className="tag tag-stop ml-2 py-0">suppressed</span>}
                      </div>
                      <div className={COLUMNS[1].className}>
                        <Trace trace={r.trace} />
                      </div>
                      <div className={COLUMNS[2].className}>
                        {r.band >= 4 ? (
                          <span className="text-ink-3">{r.score.toFixed(0)}</span>
                        ) : (
                          <b>{r.score.toFixed(0)}</b>
                        )}
                      </div>
                      <div className={COLUMNS[3].className}>
                        <BandWord band={r.band} />
                      </div>
                      <div className={COLUMNS[4].className}>
                        {r.last_answer ? duration(now - r.last_answer) : "never"}
                      </div>
                      <div className={COLUMNS[5].className}>{r.unanswered}</div>
                      <div className={COLUMNS[6].className}>{day(r.joined_at)}</div>
                    </>
                  ) : (
                    <span className="text-ink-3">…</span>
                  )}
                </div>
              );
            })}
          </div>
        </div>
      )}
      <p className="pt-2 text-[13px] text-ink-3">
        Marks, oldest first: tall clicked, middle opened, outlined machine only, low left unanswered, × bounced. A score
        says nothing about Unproven and Veiled.
      </p>
    </Page>
  );
}
