import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { BANDS } from "../../logic/bands";
import { count } from "../../logic/format";
import type { Times } from "../../logic/times";
import { BandWord } from "../../parts/bands";
import { Page } from "../../parts/page";
import { SourceDialog } from "../../parts/source";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Trace } from "../../parts/trace";
import { Waiting } from "../../parts/waiting";
import { ConsentHistory, Details, Notes, PersonActs } from "./person-edit";
import { Why } from "./person-score";

export function PersonPage() {
  const { day, when } = useTimes();
  const { id } = useParams();
  const q = useQuery({ queryKey: keys.person(id), queryFn: () => get(`/subscribers/${Number(id)}`) });
  const [all, setAll] = useState(false);
  if (!q.data)
    return (
      <Page title="Subscriber">
        <Waiting error={q.error} what="this person" />
      </Page>
    );
  const p = q.data,
    now = p.why.as_of;
  const band = BANDS.indexOf(p.why.band as (typeof BANDS)[number]);
  const shown = all ? p.events : p.events.slice(0, 60);
  return (
    <Page
      title={p.name || p.email}
      tag={
        <span className="text-[14px] font-normal">
          <BandWord band={band} />
        </span>
      }
      lead={
        <>
          {p.email} · joined {day(p.joined_at)}
          {p.source && ` from ${p.source}`} · {p.provider}
          {p.verdict && ` · address ${p.verdict.verdict}, checked ${day(p.verdict.at)}`}
        </>
      }
      acts={<PersonActs p={p} />}
      side={<Why p={p} band={band} />}
    >
      <div className="mb-5 flex items-center gap-5 border-y border-rule py-3">
        <Trace trace={p.trace} length={Math.min(60, p.trace.length)} />
        <span className="text-small text-ink-2">
          the last {Math.min(60, p.trace.length)} messages, newest on the right
        </span>
      </div>
      <Details p={p} />
      {p.signs.length > 0 && (
        <ul className="mb-5 border-l-2 border-wheat pl-3">
          {p.signs.map((s) => (
            <li key={s}>{s}</li>
          ))}
          {p.verdict?.suggestion && <li className="text-ink-2">Did you mean {p.verdict.suggestion}</li>}
        </ul>
      )}
      <h2 className="mb-1">Consent and eligibility</h2>
      <Table label="Consent and eligibility" className="mb-6">
        <thead>
          <tr>
            <th scope="col" className="w-[190px]">
              Purpose
            </th>
            <th scope="col" className="w-[120px]">
              Now
            </th>
            <th scope="col">Reason</th>
          </tr>
        </thead>
        <tbody>
          {p.permission.map((g) => {
            const last = p.consent.find((c) => c.purpose === g.purpose);
            return (
              <tr key={g.purpose}>
                <td className="font-semibold">{g.purpose}</td>
                <td className={`w-40 ${g.permitted ? "text-clover" : "text-poppy"}`}>
                  {g.permitted ? "may be mailed" : "may not be mailed"}
                </td>
                <td className="text-ink-2">{whyWords(g, last, day)}</td>
              </tr>
            );
          })}
        </tbody>
      </Table>
      {p.suppressed.length > 0 && (
        <p className="mb-5">
          {p.suppressed.map((s) => (
            <span key={s.reason} className="mr-3">
              <StateTag state="fail" words={`suppressed: ${s.reason}`} />{" "}
              <span className="text-ink-2">
                since {day(s.at)}, {s.source}
              </span>
            </span>
          ))}
        </p>
      )}
      <ConsentHistory p={p} />
      {p.sequences.length > 0 && (
        <p className="mb-5 text-ink-2">
          {p.sequences
            .map(
              (q) =>
                `${q.left_at ? (q.finished ? "finished" : "left") : "active in"} ${q.name}, since ${day(q.entered_at)}`,
            )
            .join(" · ")}
        </p>
      )}
      <Notes p={p} now={now} />
      {p.returned.length > 0 && (
        <>
          <h2 className="mb-1">Bounces and complaints</h2>
          <Table label="Bounces and complaints" className="mb-6">
            <tbody>
              {p.returned.map((r) => (
                <tr key={r.id}>
                  <td className="w-[150px] whitespace-nowrap text-ink-2">{when(r.at, now)}</td>
                  <td className="w-[110px] font-semibold">{r.kind}</td>
                  <td className="font-mono text-small [overflow-wrap:anywhere]">{r.diagnostic}</td>
                  <td className="n">
                    <a className="text-cornflower underline" href={`/api/returned/${r.id}`} download>
                      view source
                    </a>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      <h2 className="mb-1">Activity</h2>
      <Table label="Activity">
        <thead>
          <tr>
            <th scope="col" className="w-[150px]">
              When
            </th>
            <th scope="col" className="w-[130px]">
              Event
            </th>
            <th scope="col">Message</th>
            <th scope="col">Details</th>
          </tr>
        </thead>
        <tbody>
          {shown.map((e, i) => (
            <tr key={i}>
              <td className="whitespace-nowrap text-ink-2">{when(e.at, now)}</td>
              <td>
                <span
                  className={
                    ["clicked", "booked", "replied"].includes(e.event)
                      ? "font-semibold text-strong"
                      : ["bounced", "complained", "unsubscribed"].includes(e.event)
                        ? "font-semibold text-poppy"
                        : ""
                  }
                >
                  {e.event}
                </span>
                {e.who && (
                  <span className="text-ink-2" title={e.because}>
                    , {e.who}
                  </span>
                )}
              </td>
              <td>
                {e.message || <span className="text-ink-3">no message</span>}
                {e.delivery !== null && (
                  <SourceDialog
                    path={`/deliveries/${e.delivery}`}
                    title={`${e.message}, as ${p.email} received it`}
                    trigger={
                      <button type="button" className="ml-2 text-small text-cornflower hover:underline">
                        source
                      </button>
                    }
                  />
                )}
              </td>
              <td
                className="max-w-[260px] truncate text-small text-ink-2"
                title={[e.link, e.code, e.diagnostic, e.agent, e.who && `${e.who}: ${e.because}`]
                  .filter(Boolean)
                  .join(" · ")}
              >
                {e.value
                  ? `worth ${count(e.value)}`
                  : [e.link, [e.code, e.diagnostic].filter(Boolean).join(" "), e.agent].filter(Boolean).join(" · ")}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {!all && p.events.length > 60 && (
        <button type="button" className="btn mt-3" onClick={() => setAll(true)}>
          Show all {count(p.events.length)}
        </button>
      )}
      {!p.events.length && <p className="py-4 text-ink-2">No activity yet.</p>}
    </Page>
  );
}

/** The reasons, and the latest consent with its date and source; never the same thing twice. */
function whyWords(g: M["Permission"], last: M["ConsentEntry"] | undefined, day: Times["day"]): string {
  const others = g.reasons.filter((r) => r !== `consent ${last?.state}`);
  const consent = last ? `consent ${last.state}, ${day(last.at)}${last.source ? `, ${last.source}` : ""}` : "";
  return [...others, consent].filter(Boolean).join("; ");
}
