import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { byWord, type Figures, isCutOff, type Rect, type Shape, total, without } from "../../logic/cutoff";
import { count, share } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { BandList } from "../../parts/bands";
import { ActButton } from "../../parts/bulk-action";
import { Exclusions } from "../../parts/exclusions";
import { useMe } from "../../parts/me";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";

const DIVIDED = { band: "band", provider: "provider", list: "list", year: "year of joining" } as const;

/** What the selection is, whom of it we may mail, and what stopping would have meant. */
export function SelectionSide({
  d,
  shape,
  rect,
  replay,
  replayError,
  months,
  setMonths,
  setPurpose,
  clear,
}: {
  d: M["MapView"];
  shape: Shape;
  rect: Rect;
  replay: M["ReplayView"] | undefined;
  replayError: Error | null;
  months: number;
  setMonths: (m: number) => void;
  setPurpose: (p: string) => void;
  clear: () => void;
}) {
  const { moment } = useTimes();
  const [by, setBy] = useState<keyof typeof DIVIDED>("band");
  const rows = shape.left.length;
  const bands = byWord(d.groups.band, rows, rect);
  const people = bands.reduce((a, b) => a + b, 0);
  const expected = total(d.expected, rows, rect);
  const gate = byWord(d.groups.gate, rows, rect);
  const permitted = gate.at(-1) ?? 0;
  const exclusions = [
    { words: "All subscribers", count: d.subscribers },
    { words: "In the selection", count: people },
    ...d.groups.gate.words.slice(0, -1).flatMap((words, i) => (gate[i] ? [{ words, count: -(gate[i] ?? 0) }] : [])),
    { words: d.groups.gate.words.at(-1) ?? "", count: permitted },
  ];
  return (
    <>
      <div className="mb-2 flex items-baseline justify-between">
        <h2>The {count(people)} in your selection</h2>
        <button type="button" className="btn btn-bare py-0" onClick={clear}>
          Clear
        </button>
      </div>
      {people > 0 && (
        <p className="mb-2 text-ink-2">
          Expected to engage with the next message: <b className="text-ink">{count(Math.round(expected))}</b> (
          {share(expected, people)})
        </p>
      )}
      {d.purposes.length > 0 && (
        <>
          <div className="mb-2 flex items-center justify-between gap-3 text-ink-2">
            <span className="shrink-0">May be mailed for</span>
            <select
              className="field w-auto py-0.5"
              aria-label="Purpose"
              value={d.purpose}
              onChange={(e) => setPurpose(e.target.value)}
            >
              {d.purposes.map((p) => (
                <option key={p}>{p}</option>
              ))}
            </select>
          </div>
          <Exclusions rows={exclusions} />
        </>
      )}
      <div className="mt-4 mb-1 flex items-baseline justify-between gap-3">
        <h2>Replay without them</h2>
        <select
          className="field w-auto py-0.5 text-small"
          aria-label="Months replayed"
          value={months}
          onChange={(e) => setMonths(Number(e.target.value))}
        >
          {[3, 6, 12, 18].map((m) => (
            <option key={m} value={m}>
              {m} months
            </option>
          ))}
        </select>
      </div>
      {replay && replay.off > 0 && (
        <p role="status" className="mb-1 text-small text-ink-2">
          Estimated from one person in eight (± {share(replay.off, 1, 1)}) while all sends are replayed…
        </p>
      )}
      {replay ? (
        <Replayed
          all={without(replay.sums, rows, null)}
          rest={without(isCutOff(shape, rect) ? replay.for_good : replay.sums, rows, rect)}
          months={replay.months}
          forGood={isCutOff(shape, rect)}
        />
      ) : (
        <p className="text-ink-2">{replayError ? replayError.message : "Replaying past sends…"}</p>
      )}
      <Acts columns={`${rect.c0},${rect.c1}`} rows={`${rect.r0},${rect.r1}`} people={people} />
      <div className="mt-5 mb-1 flex items-baseline justify-between gap-3">
        <h2>Who they are</h2>
        <select
          className="field w-auto py-0.5 text-small"
          aria-label="Break down by"
          value={by}
          onChange={(e) => setBy(e.target.value as keyof typeof DIVIDED)}
        >
          {Object.entries(DIVIDED).map(([k, words]) => (
            <option key={k} value={k}>
              by {words}
            </option>
          ))}
        </select>
      </div>
      {by === "band" ? (
        <BandList bands={bands} />
      ) : (
        <Divided group={d.groups[by]} counts={byWord(d.groups[by], rows, rect)} people={people} />
      )}
      <p className="mt-4 text-small text-ink-3">As of {moment(d.now)}.</p>
    </>
  );
}

function Divided({ group, counts, people }: { group: M["Grid"]; counts: number[]; people: number }) {
  return (
    <Table label="Who they are">
      <tbody>
        {group.words.map((w, i) =>
          counts[i] ? (
            <tr key={w}>
              <td>{w}</td>
              <td className="n">{count(counts[i] ?? 0)}</td>
              <td className="n w-16 text-ink-2">{share(counts[i] ?? 0, people)}</td>
            </tr>
          ) : null,
        )}
      </tbody>
    </Table>
  );
}

function Replayed({ all, rest, months, forGood }: { all: Figures; rest: Figures; months: number; forGood: boolean }) {
  const per = (x: number) => `${(10_000 * x).toFixed(1)}`;
  const rows: [string, string, string][] = [
    ["Open rate (human)", share(all.openRate, 1), share(rest.openRate, 1)],
    ["Click rate (human)", share(all.clickRate, 1), share(rest.clickRate, 1)],
    ["Complaints per 10,000", per(all.complaints), per(rest.complaints)],
    ["Unsubscribes per 10,000", per(all.unsubscribes), per(rest.unsubscribes)],
    ["Hard bounces", share(all.hardBounces, 1, 2), share(rest.hardBounces, 1, 2)],
  ];
  const lost = (name: "opens" | "bookings" | "worth") => count(Math.round((all[name] - rest[name]) / months));
  return (
    <>
      <Table label="Replay" className="text-[13.5px]">
        <thead>
          <tr>
            <th scope="col">
              <span className="sr-only">Figure</span>
            </th>
            <th scope="col" className="n">
              actual
            </th>
            <th scope="col" className="n">
              without them
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map(([words, before, after]) => (
            <tr key={words}>
              <td className="py-[3px]!">{words}</td>
              <td className="n py-[3px]! text-ink-3">{before}</td>
              <td className="n py-[3px]! font-semibold">{after}</td>
            </tr>
          ))}
          <tr>
            <td className="py-[3px]!" colSpan={2}>
              Opens lost a month
            </td>
            <td className="n py-[3px]! font-semibold">{lost("opens")}</td>
          </tr>
          <tr>
            <td className="py-[3px]!" colSpan={2}>
              Bookings lost a month (worth)
            </td>
            <td className="n py-[3px]! font-semibold">
              {lost("bookings")} ({lost("worth")})
            </td>
          </tr>
        </tbody>
      </Table>
      <p className="mt-1 text-small text-ink-3">
        Of {count(all.delivered)} delivered; {count(all.delivered - rest.delivered)} would not have been sent. Each
        message counts by its subscriber's position when it was sent
        {forGood ? "; people beyond the cut-off once get nothing after it." : "."} What this cannot know: whether the
        rest would reach the inbox more often without them. Where much of your mail lies in spam, fewer opens would be
        lost than shown.
      </p>
    </>
  );
}

function Acts({ columns, rows, people }: { columns: string; rows: string; people: number }) {
  const go = useNavigate();
  const me = useMe();
  const client = useQueryClient();
  const q = useQuery({
    queryKey: keys.mapRule(columns, rows),
    queryFn: () => get(`/subscribers/map/rule?columns=${columns}&rows=${rows}`),
    placeholderData: (p) => p,
  });
  const rule = q.data?.rule;
  const [name, setName] = useState("");
  if (!rule || !people) return null;
  const choice = { rule, text: "", bands: [], ids: null, without: [] };
  return (
    <>
      <p className="mt-3 text-small text-ink-2">
        As a rule: <em>{rule}</em>
      </p>
      <div className="mt-2 flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-main"
          onClick={() => go(`/segments/new?rule=${encodeURIComponent(rule)}`)}
        >
          Save as segment
        </button>
        <Ask
          trigger={
            <button type="button" className="btn">
              Create win-back campaign
            </button>
          }
          title="Create win-back campaign"
          words="Create draft"
          disabled={!name.trim()}
          act={async () => {
            const made = await post("/segments/win-back", { name, rule });
            await peopleChanged(client);
            go(`/campaigns/${made.id}/message`);
          }}
        >
          <p className="mb-3">
            The {count(people)} become a segment, and a draft campaign is created for those who may be mailed. Nothing
            is sent until you start it.
          </p>
          <label className="block text-ink">
            <span className="label">Segment name</span>
            <input className="field" value={name} onChange={(e) => setName(e.target.value)} />
          </label>
        </Ask>
        {me.role === "analyst" && (
          <>
            <ActButton act="label" choice={choice}>
              Label…
            </ActButton>
            <ActButton act="suppress" choice={choice}>
              Suppress…
            </ActButton>
          </>
        )}
        <Link className="btn" to={`/subscribers/table?rule=${encodeURIComponent(rule)}`}>
          Open in table
        </Link>
      </div>
    </>
  );
}
