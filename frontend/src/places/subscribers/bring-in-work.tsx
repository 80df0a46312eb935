import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { get, type M } from "../../api/client";
import { count, moment } from "../../logic/format";
import { Sentence } from "../../parts/basics";
import { TakeBack } from "../../parts/take-back";

export type Step =
  | { at: "choose" }
  | { at: "match"; upload: M["Upload"] }
  | { at: "work"; upload: M["Upload"]; job: number; dry: boolean };

/** Progress of looking through or bringing in, and what came of it. */
export function Work({
  step,
  run,
  again,
  restart,
  error,
}: {
  step: Extract<Step, { at: "work" }>;
  run: (u: M["Upload"], dry: boolean) => void;
  again: () => void;
  restart: () => void;
  error: Error | null;
}) {
  const client = useQueryClient();
  const q = useQuery({
    queryKey: ["job", step.job],
    queryFn: () => get(`/jobs/${step.job}`),
    refetchInterval: (x) => (x.state.data && ["finished", "failed"].includes(x.state.data.state) ? false : 400),
  });
  const job = q.data,
    o = job?.outcome;
  const over = job?.state === "finished" || job?.state === "failed";
  useEffect(() => {
    if (over) client.invalidateQueries({ predicate: (x) => x.queryKey[0] !== "job" });
  }, [over, client]);
  const what = step.upload.kind === "subscribers" ? "people" : "events";
  if (!job || !over)
    return (
      <div className="max-w-[640px]" role="status">
        <h2>
          {step.dry ? "Looking through" : "Bringing in"} {step.upload.name}
        </h2>
        <div className="mt-3 h-2 bg-wash">
          <div
            className="h-full bg-cornflower"
            style={{ width: `${job?.total ? (100 * job.done) / job.total : 2}%` }}
          />
        </div>
        <p className="mt-2 text-ink-2">
          {job?.state === "waiting" || !job
            ? "Waiting for the worker…"
            : `${((100 * job.done) / Math.max(job.total, 1)).toFixed(0)}% of the file read.`}{" "}
          You may leave this page; it goes on.
        </p>
      </div>
    );
  if (job.state === "failed" || !o)
    return (
      <div className="max-w-[640px]">
        <p role="alert" className="text-poppy">
          {o?.error ?? "It did not work."}
        </p>
        <button type="button" className="btn mt-3" onClick={again}>
          Back to the columns
        </button>
      </div>
    );
  return (
    <div className="max-w-[860px]">
      <div className="mb-3 flex items-end justify-between gap-4">
        <div>
          <h2>{step.dry ? "What would happen" : "Done"}</h2>
          <p className="text-ink-2">
            {count(o.rows)} rows of {step.upload.name}
          </p>
        </div>
        {step.dry ? (
          <div className="flex gap-2">
            <button type="button" className="btn" onClick={again}>
              Correct the columns
            </button>
            <button type="button" className="btn btn-main" disabled={!o.rows} onClick={() => run(step.upload, false)}>
              Bring in {count(o.rows - o.refused - o.aside)} rows
            </button>
          </div>
        ) : (
          <button type="button" className="btn btn-main" onClick={restart}>
            Bring in another file
          </button>
        )}
      </div>
      <table className="lined max-w-[560px]">
        <tbody>
          <tr>
            <td>{step.dry ? `New ${what}` : `${what === "people" ? "People" : "Events"} new or changed`}</td>
            <td className="n font-semibold">{count(o.taken)}</td>
          </tr>
          <tr>
            <td>Already here, nothing changes</td>
            <td className="n">{count(o.repeated)}</td>
          </tr>
          {o.aside > 0 && (
            <tr>
              <td>For addresses nobody has; kept aside until they are brought in</td>
              <td className="n text-wheat">{count(o.aside)}</td>
            </tr>
          )}
          <tr>
            <td>Refused</td>
            <td className={`n ${o.refused ? "text-poppy" : ""}`}>{count(o.refused)}</td>
          </tr>
        </tbody>
      </table>
      {o.notes
        .map((n) => (
          <p key={n} className="mt-2 text-ink-2">
            {n}
          </p>
        ))
        .slice(0, 6)}
      {o.notes.length > 6 && (
        <p className="mt-2 text-ink-2">and {count(o.notes.length - 6)} more notes of this kind.</p>
      )}
      {o.refused > 0 && (
        <>
          <div className="mt-5 flex items-baseline justify-between">
            <h2>Rows that cannot be taken</h2>
            {!step.dry && (
              <a className="btn" href={`/api/jobs/${step.job}/refused.csv`}>
                Save them as CSV
              </a>
            )}
          </div>
          <table className="lined">
            <thead>
              <tr>
                <th className="w-20">Line</th>
                <th className="w-40">Column</th>
                <th>Why</th>
              </tr>
            </thead>
            <tbody>
              {o.refused_rows.map((r, i) => (
                <tr key={i}>
                  <td>{count(r.line)}</td>
                  <td>{r.column || "the row"}</td>
                  <td>{r.reason}</td>
                </tr>
              ))}
            </tbody>
          </table>
          {o.refused > o.refused_rows.length && (
            <p className="mt-2 text-ink-2">
              The first {count(o.refused_rows.length)} of {count(o.refused)}.
            </p>
          )}
        </>
      )}
      <Sentence error={error} />
    </div>
  );
}

/** What was brought in before, and the way back. */
export function Before() {
  const q = useQuery({ queryKey: ["activity"], queryFn: () => get("/activity") });
  const deeds = (q.data?.deeds ?? []).filter((d) => d.act.startsWith("brought in"));
  return (
    <>
      <h2 className="mb-1">Brought in before</h2>
      {!deeds.length && <p className="text-ink-2">Nothing yet.</p>}
      {deeds.map((d) => (
        <div key={d.id} className="border-b border-rule py-2">
          <div className="flex items-baseline justify-between gap-2">
            <b className="truncate" title={d.what}>
              {d.what}
            </b>
            <TakeBack d={d} />
          </div>
          <p className="text-[13px] text-ink-2">
            {moment(d.at)} · {d.act.replace("brought in ", "")}, {count(d.people)} new or changed · {d.who}
          </p>
        </div>
      ))}
      <h2 className="mt-5 mb-1">How rows become people</h2>
      <ul className="list-disc pl-4 text-[13px] text-ink-2">
        <li>Rows of one address are one person; letter case does not count.</li>
        <li>A later row's name and fields stand; an empty cell clears nothing.</li>
        <li>The joined date never becomes younger.</li>
        <li>Lists, labels and consents are added up; nothing is taken off.</li>
        <li>Who is suppressed or erased stays so.</li>
      </ul>
    </>
  );
}
