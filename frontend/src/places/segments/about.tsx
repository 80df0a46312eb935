import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post, remove } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { finished } from "../../parts/bulk-action";
import { NumberField, TextField } from "../../parts/labelled";
import { useMe } from "../../parts/me";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence } from "../../parts/waiting";

/** The history of a saved segment: size over time, snapshots, where it is used. */
export function About({ segment }: { segment: M["Segment"] }) {
  const { id, name } = segment;
  const { day, moment } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const { run, error } = useAction();
  const q = useQuery({ queryKey: keys.segmentAbout(id), queryFn: () => get(`/segments/${id}/about`) });
  const d = q.data;
  if (!d) return <p className="text-small text-ink-2">{q.error ? q.error.message : "Loading…"}</p>;
  const act = async (f: () => Promise<unknown>) => {
    await run(async () => {
      await f();
      await client.invalidateQueries({ queryKey: keys.segmentAbout(id) });
    });
  };
  return (
    <section className="mt-6 grid grid-cols-[1fr_1fr] gap-x-10" aria-label="History">
      <div>
        <h2 className="mb-1">Size over time, by the current rule</h2>
        <Growth points={d.growth} made={d.made_at} />
      </div>
      <div>
        <div className="mb-1 flex items-baseline justify-between">
          <h2>Snapshots</h2>
          {me.role === "analyst" && <SampleAsk segment={segment} />}
          {me.role !== "observer" && (
            <button
              type="button"
              className="btn btn-bare py-0"
              onClick={() => act(() => post(`/segments/${id}/snapshots`))}
            >
              Take snapshot
            </button>
          )}
        </div>
        {!d.snapshots.length && (
          <p className="text-small text-ink-2">No snapshots. A snapshot keeps the subscribers as they are now.</p>
        )}
        {d.snapshots.map((f) => (
          <p key={f.id} className="flex justify-between border-b border-rule py-1">
            <Link
              className="hover:underline"
              to={`/subscribers/table?rule=${encodeURIComponent(`in segment "${name.replaceAll('"', '""')}" as frozen on ${f.day}`)}`}
            >
              {day(f.at)}
            </Link>
            <span>
              {count(f.people)} people
              {me.role !== "observer" && (
                <button
                  type="button"
                  className="ml-2 text-ink-3 hover:text-poppy"
                  aria-label={`Delete the snapshot of ${day(f.at)}`}
                  onClick={() => act(() => remove(`/segments/${id}/snapshots/${f.id}`))}
                >
                  ×
                </button>
              )}
            </span>
          </p>
        ))}
        <Sentence error={error} />
        {me.role !== "observer" && (
          <label className="mt-4 flex items-center gap-2">
            Tell me on Today when its size changes by more than
            <select
              className="field w-auto py-0.5"
              value={segment.alert_share ?? ""}
              onChange={(e) =>
                act(async () => {
                  await post(`/segments/${id}/watch`, { share: e.target.value ? Number(e.target.value) : null });
                  await client.invalidateQueries({ queryKey: keys.segments() });
                })
              }
            >
              <option value="">never</option>
              {[0.05, 0.1, 0.2, 0.5].map((s) => (
                <option key={s} value={s}>
                  {100 * s}%
                </option>
              ))}
            </select>
          </label>
        )}
        <p className="mt-4 text-small text-ink-2">
          {d.used_by.length ? `Used by ${d.used_by.join(", ")}.` : "Not used."} Counted {moment(d.as_of)} in{" "}
          {(d.seconds * 1000).toFixed(0)} ms; recounted whenever it is used.{" "}
          <a className="text-cornflower underline" href={`/api/segments/${id}/rule.json`} download>
            Download rule
          </a>
        </p>
      </div>
    </section>
  );
}

/** So many of a segment at random, on a list of their own. */
function SampleAsk({ segment }: { segment: M["Segment"] }) {
  const client = useQueryClient();
  const most = segment.count ?? 0;
  const [people, setPeople] = useState(Math.min(1000, most));
  const [list, setList] = useState(`Sample of ${segment.name}`);
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare ml-auto py-0">
          Random sample…
        </button>
      }
      title="Take a random sample"
      words={`Put ${count(people)} on the list`}
      disabled={people < 1 || people > most || !list.trim()}
      act={async () => {
        const done = await post(`/segments/${segment.id}/sample`, { people, list });
        const action = done.job ? ((await finished(done.job)).action ?? 0) : done.action;
        await peopleChanged(client);
        offerUndo({
          words: `${count(people)} subscribers are on the list “${list.trim()}”.`,
          undo: async () => {
            await post(`/activity/${action}/undo`);
            await peopleChanged(client);
          },
        });
      }}
    >
      <p className="mb-3">
        Each of the {count(most)} subscribers has the same chance. The list can be sent to, left out, or used in rules.
      </p>
      <div className="grid grid-cols-[150px_1fr] gap-3 text-ink">
        <NumberField label="Sample size" value={people} set={setPeople} unit="" min={1} max={Math.max(1, most)} />
        <TextField label="New list" value={list} set={setList} />
      </div>
    </Ask>
  );
}

const WIDE = 440;

function Growth({ points, made }: { points: M["GrowthPoint"][]; made: number }) {
  const { day, month } = useTimes();
  if (points.length < 2) return <p className="text-small text-ink-2">No history yet.</p>;
  const most = Math.max(...points.map((p) => p.count), 1);
  const first = points[0] as M["GrowthPoint"],
    last = points.at(-1) as M["GrowthPoint"];
  const x = (at: number) => ((at - first.at) / Math.max(last.at - first.at, 1)) * WIDE;
  const y = (n: number) => 58 - (n / most) * 52;
  return (
    <>
      <svg
        viewBox={`0 0 ${WIDE} 74`}
        className="block w-full"
        role="img"
        aria-label={points.map((p) => `${day(p.at)}: ${count(p.count)}`).join(", ")}
      >
        <line x1="0" x2={WIDE} y1="58" y2="58" stroke="var(--color-rule-strong)" />
        <polyline
          points={points.map((p) => `${x(p.at)},${y(p.count)}`).join(" ")}
          fill="none"
          stroke="var(--color-ink)"
          strokeWidth="1.6"
        />
        {made > first.at && (
          <line x1={x(made)} x2={x(made)} y1="2" y2="58" stroke="var(--color-cornflower)" strokeDasharray="3 3" />
        )}
        {points.map((p, i) => (
          <text
            key={p.at}
            x={x(p.at)}
            y="71"
            fontSize="10.5"
            fill="var(--color-ink-3)"
            textAnchor={i ? (i === points.length - 1 ? "end" : "middle") : "start"}
          >
            {i % 3 === 0 || i === points.length - 1 ? (i === points.length - 1 ? "now" : month(p.at)) : ""}
          </text>
        ))}
      </svg>
      <p className="text-small text-ink-2">
        {count(first.count)} on {day(first.at)}, {count(last.count)} now.
      </p>
    </>
  );
}

/** How many of these people are in up to four other segments. */
export function OverlapTable({ rule, people, segments }: { rule: string; people: number; segments: M["Segment"][] }) {
  const [others, setOthers] = useState<number[]>([]);
  const q = useQuery({
    queryKey: keys.overlap(rule, others),
    queryFn: ({ signal }) => post("/segments/overlap", { rule, others }, signal),
    enabled: others.length > 0 && rule.trim() !== "",
    placeholderData: keepPreviousData,
  });
  const rest = segments.filter((s) => !others.includes(s.id));
  return (
    <section className="mt-6">
      <div className="mb-1 flex items-baseline justify-between gap-3">
        <h2>Overlap with other segments</h2>
        {others.length < 4 && rest.length > 0 && (
          <select
            className="field w-auto py-0"
            aria-label="Compare with a segment"
            value=""
            onChange={(e) => setOthers([...others, Number(e.target.value)])}
          >
            <option value="">Compare with…</option>
            {rest.map((s) => (
              <option key={s.id} value={s.id}>
                {s.name}
              </option>
            ))}
          </select>
        )}
      </div>
      {others.length === 0 ? (
        <p className="text-small text-ink-2">Choose up to four.</p>
      ) : (
        <Table label="Overlap with other segments">
          <thead>
            <tr>
              <th scope="col">Segment</th>
              <th scope="col" className="w-[28%]">
                <span className="sr-only">Share of these subscribers</span>
              </th>
              <th scope="col" className="n">
                In both
              </th>
              <th scope="col" className="n">
                Only this segment
              </th>
              <th scope="col" className="n">
                Only the other
              </th>
              <th scope="col" className="w-6" />
            </tr>
          </thead>
          <tbody>
            {(q.data?.overlaps ?? []).map((o) => (
              <tr key={o.id}>
                <td>
                  <Link className="hover:underline" to={`/segments/${o.id}`}>
                    {o.name}
                  </Link>
                </td>
                <td className="pt-3!">
                  <div className="h-[6px] bg-wash" aria-hidden>
                    <div
                      className="h-full bg-cornflower"
                      style={{ width: `${(100 * o.both) / Math.max(people, 1)}%` }}
                    />
                  </div>
                </td>
                <td className="n font-semibold">{count(o.both)}</td>
                <td className="n">{count(o.only_this)}</td>
                <td className="n">{count(o.only_that)}</td>
                <td>
                  <button
                    type="button"
                    className="text-ink-3 hover:text-poppy"
                    aria-label={`Compare without ${o.name}`}
                    onClick={() => setOthers(others.filter((x) => x !== o.id))}
                  >
                    ×
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </section>
  );
}
