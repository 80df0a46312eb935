import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { TakeBack } from "../../parts/undo";
import { Sentence } from "../../parts/waiting";
import type { Chosen } from "./import-chosen";

/** Progress of looking through or bringing in, and what came of it. */
export function Work({
  upload,
  chosen,
  job: id,
  dry,
  run,
  again,
  restart,
  error,
}: {
  upload: M["Upload"];
  chosen: Chosen;
  job: number;
  dry: boolean;
  run: () => void;
  again: () => void;
  restart: () => void;
  error: Error | null;
}) {
  const client = useQueryClient();
  const q = useQuery({
    queryKey: keys.job(id),
    queryFn: () => get(`/jobs/${id}`),
    refetchInterval: (x) => (x.state.data && ["finished", "failed"].includes(x.state.data.state) ? false : 400),
  });
  const job = q.data,
    o = job?.outcome;
  const over = job?.state === "finished" || job?.state === "failed";
  useEffect(() => {
    if (over) client.invalidateQueries({ predicate: (x) => x.queryKey[0] !== "jobs" });
  }, [over, client]);
  const people = upload.kind === "subscribers";
  if (!job || !over)
    return (
      <div className="max-w-[640px]" role="status">
        <h2>
          {dry ? "Previewing" : "Importing"} {upload.name}
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
          You can leave this page; the import continues.
        </p>
      </div>
    );
  if (job.state === "failed" || !o)
    return (
      <div className="max-w-[640px]">
        <p role="alert" className="text-poppy">
          {o?.error ?? "Something went wrong."}
        </p>
        <button type="button" className="btn mt-3" onClick={again}>
          Back to the mapping
        </button>
      </div>
    );
  return (
    <div className="max-w-[860px]">
      <div className="mb-3 flex items-end justify-between gap-4">
        <div>
          <h2>{dry ? "Import preview" : "Done"}</h2>
          <p className="text-ink-2">
            {count(o.rows)} rows of {upload.name}
          </p>
        </div>
        {dry ? (
          <div className="flex gap-2">
            <button type="button" className="btn" onClick={again}>
              Change mapping
            </button>
            <button type="button" className="btn btn-main" disabled={!o.rows} onClick={run}>
              Import {count(o.rows - o.refused - o.aside)} {o.rows - o.refused - o.aside === 1 ? "row" : "rows"}
            </button>
          </div>
        ) : (
          <div className="flex gap-2">
            {people && (
              <Link className="btn" to={peopleOf(chosen)}>
                See the people
              </Link>
            )}
            <button type="button" className="btn btn-main" onClick={restart}>
              Import another file
            </button>
          </div>
        )}
      </div>
      <Table label="Figures of the import" className="max-w-[560px]">
        <tbody>
          <tr>
            <td>{people ? "Subscribers new or changed" : dry ? "New events" : "Events added"}</td>
            <td className="n font-semibold">{count(o.taken)}</td>
          </tr>
          <tr>
            <td>Unchanged</td>
            <td className="n">{count(o.repeated)}</td>
          </tr>
          {o.aside > 0 && (
            <tr>
              <td>For unknown addresses; stored until you import those subscribers</td>
              <td className="n text-wheat">{count(o.aside)}</td>
            </tr>
          )}
          {people &&
            Object.entries(o.permitted).map(([purpose, n]) => (
              <tr key={purpose}>
                <td>May be mailed for {purpose}</td>
                <td className={`n ${n ? "" : "text-wheat"}`}>
                  {count(n)} of {count(o.people)}
                </td>
              </tr>
            ))}
          {people && !Object.keys(o.permitted).length && (
            <tr>
              <td>May be mailed: there is no purpose yet</td>
              <td className="n text-wheat">0 of {count(o.people)}</td>
            </tr>
          )}
          {o.typos > 0 && (
            <tr>
              <td>Possible typos in the domain</td>
              <td className="n text-wheat">{count(o.typos)}</td>
            </tr>
          )}
          {o.disposable > 0 && (
            <tr>
              <td>Disposable addresses</td>
              <td className="n text-wheat">{count(o.disposable)}</td>
            </tr>
          )}
          <tr>
            <td>Rejected</td>
            <td className={`n ${o.refused ? "text-poppy" : ""}`}>{count(o.refused)}</td>
          </tr>
        </tbody>
      </Table>
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
            <h2>Rejected rows</h2>
            <a className="btn" href={`/api/jobs/${id}/refused.csv`}>
              Download CSV
            </a>
          </div>
          <Table label="Rejected rows">
            <thead>
              <tr>
                <th scope="col" className="w-20">
                  Line
                </th>
                <th scope="col" className="w-40">
                  Column
                </th>
                <th scope="col">Reason</th>
              </tr>
            </thead>
            <tbody>
              {o.refused_rows.map((r, i) => (
                <tr key={i}>
                  <td>{count(r.line)}</td>
                  <td>{r.column || "whole row"}</td>
                  <td>{r.reason}</td>
                </tr>
              ))}
            </tbody>
          </Table>
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

/** Where the people of an import are seen: by their list or source, else the newest first. */
function peopleOf(chosen: Chosen): string {
  const quoted = (name: string) => `"${name.replaceAll('"', '""')}"`;
  const rule = chosen.list
    ? `in list ${quoted(chosen.list)}`
    : chosen.source
      ? `source is ${quoted(chosen.source)}`
      : "";
  return `/subscribers/table?${rule ? `rule=${encodeURIComponent(rule)}&` : ""}sort=-joined_at`;
}

/** Earlier imports, each with its undo. */
export function ImportHistory() {
  const { moment } = useTimes();
  const q = useQuery({ queryKey: keys.activity(), queryFn: () => get("/activity") });
  const actions = (q.data?.actions ?? []).filter((d) => d.act.startsWith("imported"));
  return (
    <>
      <h2 className="mb-1">Import history</h2>
      {!actions.length && <p className="text-ink-2">Nothing yet.</p>}
      {actions.map((d) => (
        <div key={d.id} className="border-b border-rule py-2">
          <div className="flex items-baseline justify-between gap-2">
            <b className="truncate" title={d.what}>
              {d.what}
            </b>
            <TakeBack d={d} />
          </div>
          <p className="text-small text-ink-2">
            {moment(d.at)} · {d.act.replace("imported ", "")}, {count(d.people)} added or updated · {d.who}
          </p>
        </div>
      ))}
      <h2 className="mt-5 mb-1">How rows are merged</h2>
      <ul className="list-disc pl-4 text-small text-ink-2">
        <li>Rows with the same address are one subscriber; letter case does not matter.</li>
        <li>Later rows override names and fields; empty cells change nothing.</li>
        <li>The earliest joined date is kept.</li>
        <li>Lists, labels and consents are added, never removed.</li>
        <li>Suppressed and erased addresses stay so.</li>
      </ul>
    </>
  );
}
