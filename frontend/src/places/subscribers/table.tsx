import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import { useVirtualizer } from "@tanstack/react-virtual";
import { useMemo, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { get } from "../../api/client";
import { keys } from "../../api/keys";
import { BANDS } from "../../logic/bands";
import { count } from "../../logic/format";
import { ALL_MARKS, choiceOf, isMarked, type Marks, mark, marked, NO_MARKS } from "../../logic/marks";
import { useAddress, useTyped } from "../../parts/address";
import { BandMark } from "../../parts/bands";
import { ActButton } from "../../parts/bulk-action";
import { ExportButton } from "../../parts/export";
import { useKeys } from "../../parts/keys";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { RuleField } from "../../parts/rule-field";
import { useTimes } from "../../parts/times";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";
import { useNames } from "../segments/list";
import { ChooseColumns, COLUMNS, consentColumn, fieldColumn, Heading, useLayout } from "./table-columns";
import { SubscriberTabs } from "./tabs";

const WINDOW = 60,
  ROW = 31;
const MOST_MARKED = 10_000;

export function TablePage() {
  const address = useAddress();
  const { params } = address;
  const go = useNavigate();
  const me = useMe();
  const times = useTimes();
  const names = useNames();
  const labels = (names.label ?? []).map((n) => n.name);
  const fields = (names.field ?? []).map((n) => n.name);
  const [layout, setLayout] = useLayout();
  const sort = params.get("sort") ?? "-score";
  const band = params.get("band") ?? "";
  const rule = params.get("rule") ?? "";
  const text = params.get("text") ?? "";
  const [marks, setMarks] = useState<Marks>(NO_MARKS);
  const anchor = useRef(0);
  const scroller = useRef<HTMLDivElement>(null);
  const search = useRef<HTMLInputElement>(null);
  const fromTheTop = () => scroller.current?.scrollTo({ top: 0 });
  const others = () => {
    fromTheTop();
    setMarks(NO_MARKS); // those that were selected may not be shown any more
  };
  const sortBy = (value: string) => {
    address.set("sort", value);
    fromTheTop();
  };
  const showBands = (value: string) => {
    address.set("band", value);
    others();
  };
  const [typed, setTyped] = useTyped(address, "text", 180, others);
  const [written, setWritten] = useTyped(address, "rule", 400, others);
  const query = useMemo(() => new URLSearchParams({ sort, band, rule, text }).toString(), [sort, band, rule, text]);
  const ask = (offset: number) => ({
    queryKey: keys.table(query, offset),
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      get(`/subscribers?${query}&offset=${offset}&limit=${WINDOW}`, signal),
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
  /** Marks or unmarks a stretch of the table, also where it has not been loaded. */
  const markRange = async (a: number, b: number, on: boolean) => {
    const [low, high] = [Math.min(a, b), Math.min(Math.max(a, b), Math.min(a, b) + MOST_MARKED - 1)];
    const loaded = Array.from({ length: high - low + 1 }, (_, i) => rowAt(low + i)?.id);
    const ids = loaded.every((id) => id !== undefined)
      ? (loaded as number[])
      : (await get(`/subscribers/ids?${query}&first=${low}&last=${high}`)).ids;
    setMarks((m) => mark(m, ids, on));
  };
  const toggle = (i: number) => {
    const r = rowAt(i);
    if (r) setMarks(mark(marks, [r.id], !isMarked(marks, r.id)));
    anchor.current = i;
  };
  const list = useRows(
    total,
    (i) => {
      const r = rowAt(i);
      if (!r) return [];
      return [
        { words: `Open ${r.name || r.email}`, act: () => go(`/subscribers/${r.id}`) },
        { words: isMarked(marks, r.id) ? "Unselect" : "Select", act: () => toggle(i) },
        { words: `Filter: provider ${r.provider}`, act: () => setWritten(`provider is "${r.provider}"`) },
        ...(r.source
          ? [{ words: `Filter: source ${r.source}`, act: () => setWritten(`source is "${r.source}"`) }]
          : []),
      ];
    },
    undefined,
    {
      moved: (to, e, from) => {
        rows.scrollToIndex(to);
        if (e?.shiftKey) markRange(from, to, true);
        else anchor.current = to;
      },
      marked: toggle,
    },
  );
  const { at } = list;
  useKeys([{ key: "/", words: "search by name or address", act: () => search.current?.focus() }]);
  const bands = band ? band.split(",") : [];
  const now = first.data?.now ?? 0;
  const n = marked(marks, total);
  const choice = choiceOf(marks, { rule, text, bands });
  const every = [...COLUMNS, ...(names.purpose ?? []).map((p) => consentColumn(p.name)), ...fields.map(fieldColumn)];
  const columns = layout.shown.flatMap((id) => every.find((c) => c.id === id) ?? []);
  const width = (id: string, usual: number) => layout.widths[id] ?? usual;
  const done = () => setMarks(NO_MARKS);
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead={
        first.isPlaceholderData
          ? "Loading…"
          : first.data
            ? n
              ? `${count(n)} of ${count(total)} selected.`
              : `${count(total)} ${rule || band || text ? "match" : "people"}. Space selects a row, Shift extends; = opens its actions.`
            : " "
      }
      acts={
        n ? (
          <>
            {me.role === "analyst" && (
              <>
                <ActButton act="label" choice={choice} names={labels} after={done}>
                  Label…
                </ActButton>
                <ActButton act="unlabel" choice={choice} names={labels} after={done}>
                  Remove a label…
                </ActButton>
                <ActButton act="list" choice={choice} names={(names.list ?? []).map((n) => n.name)} after={done}>
                  Add to a list…
                </ActButton>
                <ActButton act="unlist" choice={choice} names={(names.list ?? []).map((n) => n.name)} after={done}>
                  Remove from a list…
                </ActButton>
                <ActButton act="check" choice={choice} after={done}>
                  Check addresses…
                </ActButton>
                <ActButton act="suppress" choice={choice} after={done}>
                  Suppress…
                </ActButton>
              </>
            )}
            <ExportButton choice={choice} people={n} name={rule || "selected subscribers"} />
            <button type="button" className="btn btn-bare" onClick={done}>
              Clear
            </button>
          </>
        ) : (
          <>
            <ChooseColumns layout={layout} set={setLayout} every={every} />
            <ExportButton
              choice={{ rule, text, bands, ids: null, without: [] }}
              people={total}
              name={rule || "all subscribers"}
              words="Export all…"
            />
          </>
        )
      }
    >
      <div className="mb-2 flex flex-wrap items-start gap-x-4 gap-y-2">
        <input
          ref={search}
          className="field w-[210px]"
          placeholder="Search name or address"
          aria-label="Search name or address"
          value={typed}
          onChange={(e) => setTyped(e.target.value)}
        />
        <RuleField
          value={written}
          set={setWritten}
          names={names}
          label="Filter by a rule"
          placeholder="a rule, for example: joined less than 21 days ago"
          className="min-w-[260px] flex-1"
        />
        <fieldset className="flex flex-wrap gap-x-3 pt-1" aria-label="Bands">
          {BANDS.map((b, i) => (
            <label key={b} className="flex cursor-pointer items-center gap-1.5">
              <input
                type="checkbox"
                checked={bands.includes(b)}
                onChange={(e) => showBands((e.target.checked ? [...bands, b] : bands.filter((x) => x !== b)).join(","))}
              />
              <BandMark band={i} />
              {b}
            </label>
          ))}
        </fieldset>
      </div>
      {first.error && rule ? <Sentence error={first.error} /> : null}
      <div className="overflow-x-auto">
        <div className="flex min-w-full border-b border-rule-strong text-small font-semibold text-ink-2">
          <label className="w-7 shrink-0 py-1.5">
            <input
              type="checkbox"
              aria-label={`Select all ${count(total)} matches`}
              checked={n > 0 && n === total}
              ref={(e) => {
                if (e) e.indeterminate = n > 0 && n < total;
              }}
              onChange={(e) => setMarks(e.target.checked ? ALL_MARKS : NO_MARKS)}
            />
          </label>
          <div className="min-w-[230px] flex-1 py-1.5">
            <button
              type="button"
              className="font-semibold hover:text-ink"
              aria-label="Sort by Subscriber"
              onClick={() => sortBy(sort === "email" ? "-email" : "email")}
            >
              Subscriber{sort === "email" ? " ↑" : sort === "-email" ? " ↓" : ""}
            </button>
          </div>
          {columns.map((c) => (
            <Heading
              key={c.id}
              column={c}
              width={width(c.id, c.width)}
              sort={sort}
              onSort={sortBy}
              onWidth={(px) => setLayout({ ...layout, widths: { ...layout.widths, [c.id]: px } })}
            />
          ))}
        </div>
        {first.error && !rule ? (
          <Waiting error={first.error} what="the table" />
        ) : first.data && !total ? (
          <Quiet>No matches. Remove a filter.</Quiet>
        ) : (
          <div
            ref={scroller}
            className={`overflow-x-hidden overflow-y-auto ${first.isPlaceholderData ? "dimmed" : ""}`}
            style={{
              height: "calc(100vh - 322px)",
              minHeight: 260,
              minWidth: 260 + columns.reduce((sum, c) => sum + width(c.id, c.width), 0),
            }}
            // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keyboard
            tabIndex={0}
          >
            <div style={{ height: rows.getTotalSize(), position: "relative" }}>
              {shown.map((v) => {
                const r = rowAt(v.index);
                const on = r ? isMarked(marks, r.id) : false;
                return (
                  // biome-ignore lint/a11y/useKeyWithClickEvents: Enter opens through the page's keys
                  // biome-ignore lint/a11y/noStaticElementInteractions: the row as a whole leads to the person
                  <div
                    key={v.key}
                    className={`absolute right-0 left-0 flex cursor-pointer items-center border-b border-rule ${on ? "bg-chosen" : v.index === at ? "bg-cornflower-pale" : "hover:bg-wash"} ${v.index === at ? "shadow-[inset_2px_0_0_var(--color-cornflower)]" : ""}`}
                    style={{ height: ROW, transform: `translateY(${v.start}px)` }}
                    onClick={(e) => {
                      if (!r) return;
                      if (e.shiftKey) markRange(anchor.current, v.index, true);
                      else go(`/subscribers/${r.id}`);
                    }}
                  >
                    {r ? (
                      <>
                        {/* biome-ignore lint/a11y/useKeyWithClickEvents: the checkbox inside takes the keys */}
                        <label
                          className="flex h-full w-7 shrink-0 items-center pl-1"
                          onClick={(e) => e.stopPropagation()}
                        >
                          <input
                            type="checkbox"
                            tabIndex={-1}
                            aria-label={`Select ${r.name || r.email}`}
                            checked={on}
                            onChange={(e) => {
                              if ((e.nativeEvent as MouseEvent).shiftKey) markRange(anchor.current, v.index, !on);
                              else toggle(v.index);
                            }}
                          />
                        </label>
                        <div className="min-w-[230px] flex-1 truncate pr-3">
                          <span className="font-semibold">{r.name}</span> <span className="text-ink-2">{r.email}</span>
                          {!r.permitted && <span className="tag tag-fail ml-2 py-0">suppressed</span>}
                        </div>
                        {columns.map((c) => (
                          <div
                            key={c.id}
                            className={`shrink-0 truncate ${c.right ? "pr-3 text-right" : "pr-2"}`}
                            style={{ width: width(c.id, c.width) }}
                          >
                            {c.cell(r, now, times)}
                          </div>
                        ))}
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
      </div>
      {list.menu}
      <p className="pt-2 text-small text-ink-3">
        Trace, oldest first: tall = clicked, middle = opened, outline = machine open only, low = ignored, × = bounced.
        Unproven and Masked have no meaningful score.
      </p>
    </Page>
  );
}
