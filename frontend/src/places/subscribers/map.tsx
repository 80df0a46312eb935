import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { BANDS } from "../../logic/bands";
import { beyond, byWord, type Rect, type Shape } from "../../logic/cutoff";
import { count, share } from "../../logic/format";
import { BandList, BandMark } from "../../parts/bands";
import { useKeys } from "../../parts/keys";
import { Page } from "../../parts/page";
import { Quiet, Waiting } from "../../parts/waiting";
import { BendChart } from "./map-bend";
import { MapGrid } from "./map-grid";
import { SelectionSide } from "./map-side";
import { SubscriberTabs } from "./tabs";

/** What past sends came to: where there are many people, an estimate until all is replayed. */
function useReplay(months: number) {
  const whole = useQuery({
    queryKey: keys.replay(months),
    queryFn: () => get(`/subscribers/replay?months=${months}`),
  });
  const rough = useQuery({
    queryKey: [...keys.replay(months), "rough"],
    queryFn: () => get(`/subscribers/replay?months=${months}&rough=true`),
    enabled: !whole.data,
    placeholderData: keepPreviousData,
  });
  return { data: whole.data ?? rough.data, error: whole.error };
}

export function MapPage() {
  const [purpose, setPurpose] = useState("");
  const [months, setMonths] = useState(12);
  const q = useQuery({
    queryKey: keys.map(purpose),
    queryFn: () => get(`/subscribers/map?purpose=${encodeURIComponent(purpose)}`),
    placeholderData: keepPreviousData,
  });
  const replay = useReplay(months);
  const [rect, setRect] = useState<Rect | null>(null);
  const [handles, setHandles] = useState<{ column: number; row: number } | null>(null);
  const clear = () => {
    setRect(null);
    setHandles(null);
  };
  useKeys(rect ? [{ key: "Escape", words: "clear the selection", act: clear }] : []);
  const d = q.data;
  const shape = useMemo<Shape | null>(
    () => (d ? { days: d.fine_days, left: d.fine_left, dayEdges: d.day_edges, leftEdges: d.left_edges } : null),
    [d],
  );
  if (!d || !shape)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Waiting error={q.error} what="the map" />
      </Page>
    );
  if (!d.subscribers)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Quiet>
          No subscribers yet.{" "}
          <Link className="text-cornflower underline" to="/subscribers/import">
            Import a CSV of subscribers
          </Link>
          ; the map fills once their history is imported too.
        </Quiet>
      </Page>
    );
  const advised = { column: shape.days.indexOf(d.window_days), row: 5 };
  const at = handles ?? advised;
  const cut = (column: number, row: number) => {
    setHandles({ column, row });
    setRect(beyond(shape, column, row));
  };
  const totals = byWord(d.groups.band, shape.left.length, null);
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead={`${count(d.subscribers)} subscribers by time since they last engaged and messages ignored since then.`}
      side={
        rect ? (
          <SelectionSide
            d={d}
            shape={shape}
            rect={rect}
            replay={replay.data}
            replayError={replay.error}
            months={months}
            setMonths={setMonths}
            setPurpose={setPurpose}
            clear={clear}
          />
        ) : (
          <AllSubscribers d={d} totals={totals} show={() => cut(advised.column, advised.row)} />
        )
      }
    >
      <MapGrid
        d={d}
        shape={shape}
        rect={rect}
        handles={at}
        choose={(r) => {
          setRect(r);
          setHandles(null);
        }}
        cut={cut}
      />
      <p className="mt-1 mb-3 flex flex-wrap gap-x-5 gap-y-1">
        {BANDS.map((b, i) => (
          <span
            key={b}
            className={`inline-flex items-center gap-1.5 ${i === 4 ? "border-l border-rule-strong pl-5" : ""}`}
          >
            <BandMark band={i} /> {b} {count(totals[i] ?? 0)}
          </span>
        ))}
      </p>
      {replay.data && (
        <BendChart
          replay={replay.data}
          shape={shape}
          row={at.row}
          column={at.column}
          advised={d.window_days}
          choose={(column) => cut(column, at.row)}
        />
      )}
    </Page>
  );
}

function AllSubscribers({ d, totals, show }: { d: M["MapView"]; totals: number[]; show: () => void }) {
  return (
    <>
      <h2 className="mb-1">All subscribers, by band</h2>
      <BandList bands={totals} />
      <h2 className="mt-5 mb-1">Recommended inactivity window: {d.window_days} days</h2>
      <p className="text-small text-ink-2">
        You email a subscriber every {d.gap_days} {d.gap_days === 1 ? "day" : "days"} (median). Eight intervals are{" "}
        {8 * d.gap_days} days, and the next standard window is {d.window_days}: no one counts as inactive before that
        many days without engagement and 5 messages ignored.
      </p>
      <button type="button" className="btn mt-3" onClick={show}>
        Show subscribers beyond it
      </button>
      <p className="mt-5 text-small text-ink-2">
        Unproven and Masked are not on the scale: {share((totals[4] ?? 0) + (totals[5] ?? 0), d.subscribers)} of
        subscribers.
      </p>
    </>
  );
}
