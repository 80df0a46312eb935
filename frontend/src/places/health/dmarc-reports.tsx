import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type M, post } from "../../api/client";
import { peopleChanged } from "../../api/keys";
import { count, share } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { TakeFile } from "../../parts/upload";
import { Quiet } from "../../parts/waiting";

/** Receivers' own aggregate reports: who sends in our name, aligned or not, and which sources are known. */
export function Receivers({ d, analyst }: { d: M["HealthView"]; analyst: boolean }) {
  const { day } = useTimes();
  const domains = [...new Set(d.report_days.map((x) => x.domain))];
  return (
    <>
      <div className="mt-7 mb-1 flex items-baseline justify-between">
        <h2>DMARC reports</h2>
        {analyst && (
          <TakeFile
            path="/health/reports"
            accept=".xml,.gz,.zip,.eml,.mbox"
            label="Report to import"
            words="Import reports…"
            className="btn btn-bare py-0"
            said={(t: M["ImportedReports"]) => t.taken.map((x) => `${x.kind}: ${x.sentence}`)}
          />
        )}
      </div>
      {!d.sources.length && (
        <Quiet>
          No reports yet. They arrive at the rua address of your DMARC record, or import them as files: XML, gzip or
          zip; bounces and complaints as .eml or mbox.
        </Quiet>
      )}
      {domains.map((domain) => (
        <Days key={domain} domain={domain} days={d.report_days.filter((x) => x.domain === domain)} />
      ))}
      {d.sources.length > 0 && (
        <Table label="Sources in DMARC reports">
          <thead>
            <tr>
              <th scope="col">Source</th>
              <th scope="col">Domain</th>
              <th scope="col" className="n">
                Messages
              </th>
              <th scope="col" className="n" title="messages with an aligned SPF pass">
                SPF
              </th>
              <th scope="col" className="n" title="messages with an aligned DKIM pass">
                DKIM
              </th>
              <th scope="col" className="n" title="either is enough for DMARC">
                Aligned
              </th>
              <th scope="col" className="n">
                To spam
              </th>
              <th scope="col" className="n">
                Rejected
              </th>
              <th scope="col">Last reported</th>
              <th scope="col">Name</th>
            </tr>
          </thead>
          <tbody>
            {d.sources.map((s) => (
              <tr key={s.domain + s.ip}>
                <td className="font-mono text-small">
                  {s.ip}
                  {s.signed_by && <span className="block font-sans text-ink-2">signed by {s.signed_by}</span>}
                </td>
                <td>{s.domain}</td>
                <td className="n">{count(s.messages)}</td>
                <td className="n">{share(s.spf, s.messages)}</td>
                <td className="n">{share(s.dkim, s.messages)}</td>
                <td className={`n ${s.aligned < s.messages && !s.name ? "font-semibold text-poppy" : ""}`}>
                  {share(s.aligned, s.messages)}
                </td>
                <td className="n">{count(s.quarantined)}</td>
                <td className="n">
                  {count(s.rejected)}
                  {s.overrides.length > 0 && (
                    <span
                      className="block text-small text-ink-2"
                      title="why receivers did less than the policy says, in their words"
                    >
                      override: {s.overrides.join(", ")}
                    </span>
                  )}
                </td>
                <td className="text-ink-2">
                  {day(s.last)}
                  <span className="block text-small">by {s.reporters.join(", ")}</span>
                </td>
                <td>
                  {s.name ? (
                    <span className={s.ours ? "text-clover" : ""}>{s.name}</span>
                  ) : analyst ? (
                    <NameSource s={s} />
                  ) : (
                    <span className="text-poppy">unknown source</span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}

function Days({ domain, days }: { domain: string; days: M["ReportDay"][] }) {
  const top = Math.max(...days.map((x) => x.messages), 1);
  const n = days.reduce((a, x) => a + x.messages, 0);
  const k = days.reduce((a, x) => a + x.aligned, 0);
  return (
    <figure
      role="img"
      className="mb-2"
      aria-label={`${domain}: ${count(k)} of ${count(n)} messages aligned, over ${days.length} days`}
    >
      <svg width={Math.min(600, days.length * 8)} height={40} aria-hidden className="block">
        {days.map((x, i) => (
          <g key={x.day}>
            <rect
              x={i * 8}
              y={38 - (36 * x.messages) / top}
              width={6}
              height={(36 * x.messages) / top}
              fill="var(--color-poppy)"
            />
            <rect
              x={i * 8}
              y={38 - (36 * x.aligned) / top}
              width={6}
              height={(36 * x.aligned) / top}
              fill="var(--color-steady)"
            />
          </g>
        ))}
        <path d="M0 38.5H600" stroke="var(--color-rule-strong)" />
      </svg>
      <figcaption className="text-small text-ink-2">
        {domain}: {share(k, n)} of {count(n)} aligned. One bar per day; red did not pass
      </figcaption>
    </figure>
  );
}

function NameSource({ s }: { s: M["Source"] }) {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [ours, setOurs] = useState(false);
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0" aria-label={`Name ${s.ip}`}>
          Identify…
        </button>
      }
      title={`Identify ${s.ip}`}
      words="Save name"
      disabled={!name.trim()}
      act={async () => {
        await post("/health/dmarc-sources", { ip: s.ip, name, ours });
        await peopleChanged(client);
      }}
    >
      It sent {count(s.messages)} messages as {s.domain}, {share(s.aligned, s.messages)} of them aligned.
      <label className="mt-3 block text-ink">
        <span className="label">Name</span>
        <input
          className="field"
          value={name}
          placeholder="for example: the ticket printer"
          onChange={(e) => setName(e.target.value)}
        />
      </label>
      <label className="mt-2 flex items-baseline gap-2 text-ink">
        <input type="checkbox" checked={ours} onChange={(e) => setOurs(e.target.checked)} />
        Our service: fix its alignment before you tighten the policy
      </label>
    </Ask>
  );
}
