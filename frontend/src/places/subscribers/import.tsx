import { useState } from "react";
import { type M, post } from "../../api/client";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { Sentence } from "../../parts/waiting";
import { ImportHistory, type Step, Work } from "./import-job";
import { SubscriberTabs } from "./tabs";

export function BringIn() {
  const [step, setStep] = useState<Step>({ at: "choose" });
  const [targets, setTargets] = useState<string[]>([]);
  const [list, setList] = useState("");
  const [source, setSource] = useState("");
  const [suppressed, setSuppressed] = useState("");
  const [check, setCheck] = useState(true);
  const action = useAction();
  const { error, busy } = action;
  const [dates, setDates] = useState<Record<string, string>>({});
  /** The same file read anew, after its encoding or the meaning of a column was changed. */
  const again = async (upload: M["Upload"], encoding: string, chosen: string[]) => {
    const corrections = Object.fromEntries(upload.header.map((h, i) => [h.trim(), chosen[i] ?? ""]));
    const done = await action.run(async () => {
      const other = encoding !== upload.encoding;
      const next = await post("/imports/preview", {
        upload: upload.upload,
        encoding,
        corrections: other ? {} : corrections,
      });
      setTargets(other ? next.targets : chosen);
      setStep({ at: "match", upload: next });
    });
    if (!done) setTargets(chosen);
  };
  const begin = (file: File, kind: string) =>
    action.run(async () => {
      const form = new FormData();
      form.append("file", file);
      form.append("kind", kind);
      const upload = await post("/imports/upload", form);
      setTargets(upload.targets);
      setStep({ at: "match", upload });
    });
  const run = async (upload: M["Upload"], dry: boolean) => {
    const corrections: Record<string, string> = {};
    if (upload.kind === "subscribers")
      upload.header.forEach((h, i) => {
        corrections[h.trim()] = targets[i] ?? "";
      });
    const written: Record<string, string> = {};
    for (const h of Object.keys(upload.dates)) {
      const style = dates[h] ?? upload.dates[h]?.[0];
      if (style && style !== "year first") written[h] = style;
    }
    await action.run(async () => {
      const done = await post("/imports", {
        upload: upload.upload,
        kind: upload.kind,
        corrections,
        list_name: list,
        source,
        suppressed,
        check,
        encoding: upload.encoding,
        dates: written,
        dry_run: dry,
      });
      setStep({ at: "work", upload, job: done.id, dry });
    });
  };
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="Import subscribers (CSV) or their history (event log, CSV or NDJSON). You see all errors before anything is saved."
      side={<ImportHistory />}
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
            semicolon and tab are detected automatically.
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
                {step.upload.kind === "subscribers" && (
                  <>
                    , separated by {step.upload.separator} · encoding{" "}
                    <select
                      className="field inline-block w-auto py-0 text-small"
                      aria-label="Encoding"
                      value={step.upload.encoding}
                      onChange={(e) => again(step.upload, e.target.value, targets)}
                    >
                      {["utf-8", "windows-1252", "utf-16"].map((e) => (
                        <option key={e}>{e}</option>
                      ))}
                    </select>
                    {step.upload.remembered && " · columns mapped as last time"}
                  </>
                )}
              </p>
            </div>
            <div className="flex gap-2">
              <button type="button" className="btn" onClick={() => setStep({ at: "choose" })}>
                Another file
              </button>
              <button type="button" className="btn btn-main" onClick={() => run(step.upload, true)}>
                Preview import
              </button>
            </div>
          </div>
          <div className="overflow-auto border-y border-rule bg-panel px-3">
            <Table label="First rows of the file" className="whitespace-nowrap text-small">
              <thead>
                <tr>
                  {step.upload.header.map((h, i) => (
                    <th scope="col" key={i}>
                      {h}
                    </th>
                  ))}
                </tr>
                <tr>
                  {step.upload.header.map((h, i) => (
                    <th scope="col" key={i}>
                      {step.upload.kind === "subscribers" ? (
                        <select
                          className="field min-w-[120px] py-0.5 font-normal"
                          aria-label={`Column ${h} is`}
                          value={targets[i]}
                          onChange={(e) =>
                            again(
                              step.upload,
                              step.upload.encoding,
                              targets.map((t, k) => (k === i ? e.target.value : t)),
                            )
                          }
                        >
                          {[...new Set([...step.upload.known, step.upload.targets[i] ?? "", h.trim()])]
                            .filter(Boolean)
                            .map((k) => (
                              <option key={k} value={k}>
                                {step.upload.known.includes(k) ? k : `field: ${k}`}
                              </option>
                            ))}
                          <option value="">skip</option>
                        </select>
                      ) : (
                        <span className={targets[i] ? "text-clover" : "text-ink-3"}>{targets[i] || "skipped"}</span>
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
            </Table>
          </div>
          {step.upload.kind === "subscribers" && (
            <div className="mt-4 grid max-w-[640px] grid-cols-2 gap-4">
              <label>
                <span className="label">Add to list (optional)</span>
                <input className="field" value={list} onChange={(e) => setList(e.target.value)} />
              </label>
              <label>
                <span className="label">Consent source</span>
                <input
                  className="field"
                  placeholder="for example: foyer form, spring 2026"
                  value={source}
                  onChange={(e) => setSource(e.target.value)}
                />
              </label>
              <label>
                <span className="label">Import as suppression list, reason</span>
                <select className="field" value={suppressed} onChange={(e) => setSuppressed(e.target.value)}>
                  <option value="">not a suppression list</option>
                  {["unsubscribed from all", "complaint", "hard bounce", "bad address", "inactive", "other"].map(
                    (r) => (
                      <option key={r}>{r}</option>
                    ),
                  )}
                </select>
              </label>
              <label className="flex items-end gap-2 pb-1.5">
                <input type="checkbox" checked={check} onChange={(e) => setCheck(e.target.checked)} />
                Check addresses after the import
              </label>
              {Object.entries(step.upload.dates).map(([heading, fits]) => (
                <label key={heading}>
                  <span className="label">Date format of “{heading}”</span>
                  <select
                    className="field"
                    value={dates[heading] ?? fits[0] ?? ""}
                    onChange={(e) => setDates({ ...dates, [heading]: e.target.value })}
                  >
                    {!fits.length && <option value="">mixed: only RFC 3339 dates are accepted</option>}
                    {Object.entries(step.upload.styles).map(([style, example]) => (
                      <option key={style} value={style}>
                        {style}, as in {example}
                        {fits.includes(style) ? "" : " (no match)"}
                      </option>
                    ))}
                  </select>
                  {fits.length > 1 && (
                    <span className="text-small text-wheat">
                      {fits.join(" or ")} both match. Check the sample and choose.
                    </span>
                  )}
                </label>
              ))}
              <p className="col-span-2 text-small text-ink-2">
                Consent without a source is imported as “none”, because you could not prove it.
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
