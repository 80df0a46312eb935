import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { get, type M, post } from "../../api/client";
import { count, moment } from "../../logic/format";
import { Page, Sentence, StateTag } from "../../parts/basics";
import { SubscriberTabs } from "./tabs";

type Step =
  | { at: "choose" }
  | { at: "match"; upload: M["Upload"] }
  | { at: "work"; upload: M["Upload"]; job: number; dry: boolean };

export function BringIn() {
  const [step, setStep] = useState<Step>({ at: "choose" });
  const [targets, setTargets] = useState<string[]>([]);
  const [list, setList] = useState("");
  const [source, setSource] = useState("");
  const [error, setError] = useState<Error | null>(null);
  const [busy, setBusy] = useState(false);
  const begin = async (file: File, kind: string) => {
    setBusy(true);
    setError(null);
    try {
      const form = new FormData();
      form.append("file", file);
      form.append("kind", kind);
      const upload = await post<M["Upload"]>("/bring-in/upload", form);
      setTargets(upload.targets);
      setStep({ at: "match", upload });
    } catch (e) {
      setError(e as Error);
    } finally {
      setBusy(false);
    }
  };
  const run = async (upload: M["Upload"], dry: boolean) => {
    setError(null);
    const corrections: Record<string, string> = {};
    if (upload.kind === "subscribers")
      upload.header.forEach((h, i) => {
        if ((targets[i] ?? "") !== (upload.targets[i] ?? "")) corrections[h.trim()] = targets[i] ?? "";
      });
    try {
      const done = await post<M["Done"]>("/bring-in", {
        upload: upload.upload,
        kind: upload.kind,
        corrections,
        list_name: list,
        source,
        dry_run: dry,
      });
      setStep({ at: "work", upload, job: done.id, dry });
    } catch (e) {
      setError(e as Error);
    }
  };
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="Subscribers come as a CSV, their history as an event log (CSV or NDJSON). You see what is wrong before anything is written."
      side={<Before />}
    >
      {step.at === "choose" && (
        <div className="max-w-[720px]">
          {/* biome-ignore lint/a11y/noStaticElementInteractions: dropping is a second way beside the button */}
          <div
            className="rounded border border-dashed border-rule-strong bg-panel px-8 py-12 text-center"
            onDragOver={(e) => e.preventDefault()}
            onDrop={(e) => {
              e.preventDefault();
              const f = e.dataTransfer.files[0];
              if (f) begin(f, "");
            }}
          >
            <p className="mb-4 text-ink-2">Drop a file here, or</p>
            <label className="btn btn-main cursor-pointer">
              Choose a file…
              <input
                type="file"
                className="sr-only"
                accept=".csv,.tsv,.txt,.ndjson,.json"
                onChange={(e) => {
                  const f = e.target.files?.[0];
                  if (f) begin(f, "");
                }}
              />
            </label>
            {busy && (
              <p role="status" className="mt-4 text-ink-2">
                Reading the file…
              </p>
            )}
          </div>
          <Sentence error={error} />
          <p className="mt-4 text-ink-2">
            A subscribers file needs a column <b>email</b>; an event log needs <b>at, event, email, message</b>. Comma,
            semicolon and tab are told apart by looking.
          </p>
        </div>
      )}
      {step.at === "match" && (
        <>
          <div className="mb-3 flex items-end justify-between gap-4">
            <div>
              <h2>{step.upload.name}</h2>
              <p className="text-ink-2">
                {step.upload.kind === "subscribers" ? "Subscribers" : "Event log"} ·{" "}
                {count(Math.ceil(step.upload.bytes / 1024))} kB · {step.upload.header.length} columns
              </p>
            </div>
            <div className="flex gap-2">
              <button type="button" className="btn" onClick={() => setStep({ at: "choose" })}>
                Another file
              </button>
              <button type="button" className="btn btn-main" onClick={() => run(step.upload, true)}>
                Look through it
              </button>
            </div>
          </div>
          <div className="overflow-auto border-y border-rule bg-panel px-3">
            <table className="lined whitespace-nowrap text-[13px]">
              <thead>
                <tr>
                  {step.upload.header.map((h, i) => (
                    <th key={i}>{h}</th>
                  ))}
                </tr>
                <tr>
                  {step.upload.header.map((h, i) => (
                    <th key={i}>
                      {step.upload.kind === "subscribers" ? (
                        <select
                          className="field min-w-[120px] py-0.5 font-normal"
                          aria-label={`Column ${h} is`}
                          value={targets[i]}
                          onChange={(e) => setTargets(targets.map((t, k) => (k === i ? e.target.value : t)))}
                        >
                          {[...new Set([...step.upload.known, step.upload.targets[i] ?? "", h.trim()])]
                            .filter(Boolean)
                            .map((k) => (
                              <option key={k} value={k}>
                                {step.upload.known.includes(k) ? k : `field: ${k}`}
                              </option>
                            ))}
                          <option value="">leave out</option>
                        </select>
                      ) : (
                        <span className={targets[i] ? "text-clover" : "text-ink-3"}>{targets[i] || "left out"}</span>
                      )}
                    </th>
                  ))}
                </tr>
              </thead>
              <tbody>
                {step.upload.sample.map((r, i) => (
                  <tr key={i}>
                    {step.upload.header.map((_, k) => (
                      <td key={k} className={`max-w-[220px] truncate ${targets[k] ? "" : "text-ink-3 line-through"}`}>
                        {r[k]}
                      </td>
                    ))}
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {step.upload.kind === "subscribers" && (
            <div className="mt-4 grid max-w-[640px] grid-cols-2 gap-4">
              <label>
                <span className="label">Put them into the list (optional)</span>
                <input className="field" value={list} onChange={(e) => setList(e.target.value)} />
              </label>
              <label>
                <span className="label">Where their consent comes from</span>
                <input
                  className="field"
                  placeholder="for example: foyer form, spring 2026"
                  value={source}
                  onChange={(e) => setSource(e.target.value)}
                />
              </label>
              <p className="col-span-2 text-[13px] text-ink-2">
                Consent that is claimed without a source is brought in as none, so nobody is mailed on a claim that
                cannot be shown.
              </p>
            </div>
          )}
          <Sentence error={error} />
        </>
      )}
      {step.at === "work" && (
        <Work
          step={step}
          run={run}
          again={() => setStep({ at: "match", upload: step.upload })}
          restart={() => setStep({ at: "choose" })}
          error={error}
        />
      )}
    </Page>
  );
}

function Work({
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
    queryFn: () => get<M["Job"]>(`/jobs/${step.job}`),
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
            {step.upload.kind === "subscribers" && !step.dry && (
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

function Before() {
  const q = useQuery({ queryKey: ["jobs"], queryFn: () => get<M["Jobs"]>("/jobs") });
  const jobs = (q.data?.jobs ?? []).filter((j) => !j.dry_run);
  return (
    <>
      <h2 className="mb-1">Brought in before</h2>
      {!jobs.length && <p className="text-ink-2">Nothing yet through this page.</p>}
      {jobs.map((j) => (
        <div key={j.id} className="border-b border-rule py-2">
          <div className="flex justify-between gap-2">
            <b className="truncate">{j.name}</b>
            <StateTag
              state={j.state === "failed" ? "stopped" : j.state === "finished" ? "finished" : "sending"}
              words={j.state}
            />
          </div>
          <p className="text-[13px] text-ink-2">
            {moment(j.made_at)} ·{" "}
            {j.outcome ? `${count(j.outcome.taken)} new or changed, ${count(j.outcome.refused)} refused` : "under way"}
          </p>
        </div>
      ))}
    </>
  );
}
