import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { Table } from "../../parts/table";
import { Sentence } from "../../parts/waiting";
import { VERDICT_COLOUR } from "./verdicts";

/** Addresses that need not be anybody's here: typed or pasted, answered at once; or a file, as a job. */
export function TryAddresses({ job }: { job: M["Job"] | undefined }) {
  const client = useQueryClient();
  const file = useRef<HTMLInputElement>(null);
  const [text, setText] = useState("");
  const [hosts, setHosts] = useState(false);
  const [found, setFound] = useState<M["TypedVerdict"][]>([]);
  const { run, error, busy: asking } = useAction();
  const look = async () => {
    const done = await run(async () => setFound((await post("/addresses/typos", { text, ask_hosts: hosts })).verdicts));
    if (!done) setFound([]);
  };
  const send = async (chosen: File) => {
    await run(async () => {
      const form = new FormData();
      form.append("file", chosen);
      form.append("ask_hosts", String(hosts));
      await post("/addresses/file", form);
      await client.invalidateQueries({ queryKey: keys.jobs() });
    });
  };
  const verdicts = job?.state === "finished" ? Object.entries(job.outcome?.verdicts ?? {}) : [];
  return (
    <section className="mb-7 border-b border-rule pb-5" aria-label="Check other addresses">
      <Form
        className="flex items-end gap-3"
        act={() => {
          look();
        }}
      >
        <label className="grow">
          <span className="label">Addresses, one per line</span>
          <textarea
            className="field font-mono text-small"
            rows={Math.min(6, Math.max(1, text.split("\n").length))}
            value={text}
            placeholder="ann@lanternmial.example"
            onChange={(e) => setText(e.target.value)}
            onKeyDown={(e) => {
              if (e.key === "Enter" && !e.shiftKey && !text.includes("\n")) {
                e.preventDefault();
                look();
              }
            }}
          />
        </label>
        <button type="submit" className="btn btn-main" disabled={!text.trim() || asking}>
          {asking ? "Checking…" : "Check"}
        </button>
        <input
          ref={file}
          type="file"
          accept=".csv,.txt"
          className="sr-only"
          tabIndex={-1}
          aria-label="File of addresses"
          onChange={(e) => {
            const chosen = e.target.files?.[0];
            if (chosen) send(chosen);
            e.target.value = "";
          }}
        />
        <button type="button" className="btn" onClick={() => file.current?.click()}>
          Check a file…
        </button>
      </Form>
      <label className="mt-2 flex items-baseline gap-2 text-ink-2">
        <input type="checkbox" checked={hosts} onChange={(e) => setHosts(e.target.checked)} />
        Also query mail servers. Nothing is sent and no one is added.
      </label>
      <Sentence error={error} />
      {found.length > 0 && (
        <Table label="Checked addresses" className="mt-3" aria-live="polite">
          <tbody>
            {found.map((v, i) => (
              <tr key={`${i} ${v.address}`}>
                <td className={`w-[90px] font-semibold ${VERDICT_COLOUR[v.verdict]}`}>{v.verdict}</td>
                <td className="font-mono text-small [overflow-wrap:anywhere]">
                  {v.person ? (
                    <Link className="hover:underline" to={`/subscribers/${v.person}`}>
                      {v.address}
                    </Link>
                  ) : (
                    v.address
                  )}
                </td>
                <td className="text-ink-2">
                  {v.reasons.join("; ") || "no problems found"}
                  {v.person ? " · a subscriber here" : ""}
                </td>
                <td className="font-mono text-small text-clover">
                  {v.suggestion && (
                    <button
                      type="button"
                      className="btn btn-bare py-0"
                      onClick={() => setText(text.replace(v.address, v.suggestion ?? ""))}
                    >
                      {v.suggestion}?
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {job && (
        <p className="mt-3" role="status">
          {job.name}:{" "}
          {job.state === "failed"
            ? job.outcome?.error
            : verdicts.length
              ? verdicts.map(([v, n]) => `${count(n)} ${v}`).join(", ")
              : `${job.state === "paused" ? "paused at" : "checked"} ${count(job.done)} of ${count(job.total)}`}
          {verdicts.length > 0 && (
            <a className="ml-3 underline" href={`/api/exports/${job.id}`} download>
              Download results (CSV)
            </a>
          )}
          {["waiting", "working", "paused"].includes(job.state) && (
            <button
              type="button"
              className="btn btn-bare ml-2 py-0"
              onClick={async () => {
                await post(`/jobs/${job.id}/${job.state === "paused" ? "resume" : "pause"}`);
                await client.invalidateQueries({ queryKey: keys.jobs() });
              }}
            >
              {job.state === "paused" ? "Resume" : "Pause"}
            </button>
          )}
        </p>
      )}
    </section>
  );
}
