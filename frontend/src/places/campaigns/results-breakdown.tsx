import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { amount, count, points, share } from "../../logic/format";
import { Close, Dialog } from "../../parts/dialog";
import { useMe } from "../../parts/me";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Waiting } from "../../parts/waiting";

type Rate = "opened" | "clicked" | "unsubscribed" | "complained" | "bounced";
const RATES: [Rate, string, number][] = [
  ["opened", "Opened", 1],
  ["clicked", "Clicked", 1],
  ["unsubscribed", "Unsubscribed", 2],
  ["complained", "Complained", 2],
  ["bounced", "Bounced", 2],
];

/** The results divided: judged by what is usual here, beside others, by provider, band, version and list; links; replies. */
export function Divided({ c }: { c: M["Campaign"] }) {
  const { day, moment } = useTimes();
  const me = useMe();
  const [others, setOthers] = useState<number[]>([]);
  const q = useQuery({
    queryKey: keys.breakdown(c.id, others),
    queryFn: () => get(`/campaigns/${c.id}/breakdown?with=${others.join(",")}`),
    placeholderData: keepPreviousData,
  });
  const campaigns = useQuery({ queryKey: keys.campaigns(), queryFn: () => get("/campaigns") });
  const [copied, setCopied] = useState(false);
  const d = q.data;
  if (!d)
    return (
      <div className="mt-7">
        <Waiting error={q.error} what="the figures by provider, band and link" />
      </div>
    );
  const money = (n: number) => amount(n, me.currency);
  const choice = (campaigns.data?.campaigns ?? []).filter(
    (x) => x.state !== "draft" && x.id !== c.id && !others.includes(x.id),
  );
  return (
    <>
      {d.trial && <Trial t={d.trial} />}
      {d.compared.length > 0 && (
        <>
          <div className="mt-7 mb-1 flex items-baseline justify-between gap-4">
            <h2>Benchmark</h2>
            <span className="flex gap-2 print:hidden">
              {others.length < 3 && choice.length > 0 && (
                <select
                  className="field w-auto! py-0.5"
                  aria-label="Compare with another campaign"
                  value=""
                  onChange={(e) => setOthers([...others, Number(e.target.value)])}
                >
                  <option value="">Compare with another campaign…</option>
                  {choice.map((x) => (
                    <option key={x.id} value={x.id}>
                      {x.name}
                    </option>
                  ))}
                </select>
              )}
              {others.length > 0 && (
                <button type="button" className="btn btn-bare py-0" onClick={() => setOthers([])}>
                  Remove comparison
                </button>
              )}
            </span>
          </div>
          <Table label="Benchmark">
            <thead>
              <tr>
                <th scope="col"> </th>
                <th scope="col" className="n">
                  Delivered
                </th>
                {RATES.map(([r, words]) => (
                  <th scope="col" key={r} className="n">
                    {words}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {d.compared.map((x, i) => (
                <tr key={x.id}>
                  <td className={i ? "" : "font-semibold"}>
                    {x.name}
                    {x.at && <span className="block text-small font-normal text-ink-2">{day(x.at)}</span>}
                  </td>
                  <td className="n">{count(x.delivered)}</td>
                  {RATES.map(([r, , digits]) => (
                    <td key={r} className="n">
                      {share(x[r], r === "bounced" ? x.sent : x.delivered, digits)}
                      {!i && d.usual && (
                        <Judged
                          value={x[r] / Math.max(1, r === "bounced" ? x.sent : x.delivered)}
                          rate={r}
                          of={d.usual}
                        />
                      )}
                    </td>
                  ))}
                </tr>
              ))}
              {d.usual && (
                <tr>
                  <td className="text-ink-2">
                    Usual here
                    <span className="block text-small">
                      middle half of {count(d.usual.mailings)} campaigns{d.usual.about && ` about ${d.usual.about}`}
                    </span>
                  </td>
                  <td />
                  {RATES.map(([r, , digits]) => (
                    <td key={r} className="n text-ink-2">
                      {share(d.usual?.[r].low ?? 0, 1, digits)} to {share(d.usual?.[r].high ?? 0, 1, digits)}
                    </td>
                  ))}
                </tr>
              )}
            </tbody>
          </Table>
          {!d.usual && (
            <p className="mt-1 text-small text-ink-2">Too few settled campaigns yet to say what is usual here.</p>
          )}
          {others.length > 0 && (
            <p className="mt-1 text-small text-ink-2">Different audiences at different times: for orientation only.</p>
          )}
        </>
      )}
      {d.by.map((b) => (
        <section key={b.title}>
          <h2 className="mt-7 mb-1">By {b.title.toLowerCase()}</h2>
          <Table label={`By ${b.title.toLowerCase()}`}>
            <thead>
              <tr>
                <th scope="col">{b.title}</th>
                <th scope="col" className="n">
                  Sent
                </th>
                <th scope="col" className="n">
                  Delivered
                </th>
                <th scope="col" className="n">
                  Opened
                </th>
                <th scope="col" className="n">
                  Clicked
                </th>
                <th scope="col" className="n">
                  Machine only
                </th>
              </tr>
            </thead>
            <tbody>
              {b.lines.map((l) => (
                <tr key={l.words}>
                  <td>{l.words}</td>
                  <td className="n">{count(l.sent)}</td>
                  <td className="n">{share(l.delivered, l.sent)}</td>
                  <td className="n">{share(l.opened, l.delivered)}</td>
                  <td className="n">{share(l.clicked, l.delivered)}</td>
                  <td className="n text-ink-2">{share(l.machine_only, l.delivered)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
          {b.note && <p className="mt-1 text-small text-ink-2">{b.note}</p>}
        </section>
      ))}
      {d.links.length > 0 && (
        <>
          <div className="mt-7 mb-1 flex items-baseline justify-between">
            <h2>Links</h2>
            <ClicksDrawn id={c.id} />
          </div>
          <Table label="Links">
            <thead>
              <tr>
                <th scope="col">Link</th>
                <th scope="col" className="n">
                  People
                </th>
                <th scope="col" className="n">
                  Machine clicks only
                </th>
              </tr>
            </thead>
            <tbody>
              {d.links.map((l) => (
                <tr key={l.url}>
                  <td className="[overflow-wrap:anywhere]">{l.url}</td>
                  <td className="n">{count(l.people)}</td>
                  <td className="n text-ink-2">{count(l.machines)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      <p className="mt-5">
        {count(d.replies)} {d.replies === 1 ? "person" : "people"} replied; {count(d.bookings)}{" "}
        {d.bookings === 1 ? "booking" : "bookings"}
        {d.value > 0 && `, worth ${money(d.value)}`}.
        {d.placement[0] &&
          ` Test copies landed: ${d.placement[0].copies.map((x) => `${x.provider} ${x.folder}`).join(", ")}.`}
      </p>
      {d.booked.length > 0 && (
        <details className="mt-3">
          <summary className="cursor-pointer text-cornflower">Bookings by subscriber</summary>
          <Table label="Bookings by subscriber" className="mt-1 max-w-[560px]">
            <thead>
              <tr>
                <th scope="col">Subscriber</th>
                <th scope="col" className="n">
                  Booked
                </th>
              </tr>
            </thead>
            <tbody>
              {d.booked.map((b) => (
                <tr key={b.subscriber}>
                  <td>
                    <Link className="hover:underline" to={`/subscribers/${b.subscriber}`}>
                      {b.email}
                    </Link>
                  </td>
                  <td className="n">{money(b.value)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </details>
      )}
      {d.bounce_reasons.length > 0 && (
        <>
          <h2 className="mt-7 mb-1">Why mail bounced</h2>
          <Table label="Why mail bounced">
            <thead>
              <tr>
                <th scope="col" className="w-20">
                  Class
                </th>
                <th scope="col" className="w-20">
                  Code
                </th>
                <th scope="col">What the provider said</th>
                <th scope="col" className="n">
                  People
                </th>
              </tr>
            </thead>
            <tbody>
              {d.bounce_reasons.map((b) => (
                <tr key={b.kind + b.code + b.text}>
                  <td>{b.kind}</td>
                  <td className="font-mono">{b.code || "–"}</td>
                  <td className="[overflow-wrap:anywhere]">{b.text || "no text"}</td>
                  <td className="n">{count(b.people)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      {d.replied.length > 0 && (
        <details className="mt-3">
          <summary className="cursor-pointer text-cornflower">Replies</summary>
          <ul className="mt-1 columns-2 text-small">
            {d.replied.map((r) => (
              <li key={r.subscriber}>
                <Link className="hover:underline" to={`/subscribers/${r.subscriber}`}>
                  {r.email}
                </Link>
                , {moment(r.at)}
              </li>
            ))}
          </ul>
        </details>
      )}
      <details className="mt-3 print:hidden">
        <summary className="cursor-pointer text-cornflower">Copy summary</summary>
        <pre className="code mt-1">{d.text}</pre>
        <button
          type="button"
          className="btn mt-1"
          onClick={async () => {
            await navigator.clipboard.writeText(d.text);
            setCopied(true);
          }}
        >
          {copied ? "Copied" : "Copy"}
        </button>
      </details>
    </>
  );
}

/** The message with the clicks on it. */
function ClicksDrawn({ id }: { id: number }) {
  const [open, setOpen] = useState(false);
  const q = useQuery({
    queryKey: keys.clicksDrawn(id),
    queryFn: () => get(`/campaigns/${id}/clicks`),
    enabled: open,
  });
  return (
    <Dialog
      open={open}
      change={setOpen}
      size="large"
      title="People who clicked, by link"
      titleClass="border-b border-rule px-6 py-3 text-[18px]"
      trigger={
        <button type="button" className="btn btn-bare py-0 print:hidden">
          Show on the message
        </button>
      }
    >
      {q.data ? (
        <iframe
          title="The message with its clicks"
          sandbox=""
          srcDoc={q.data.html}
          className="h-[78vh] w-full border-0 bg-white"
        />
      ) : (
        <div className="p-6">
          <Waiting error={q.error} what="the message" />
        </div>
      )}
      <div className="flex justify-end border-t border-rule px-6 py-3">
        <Close main>Close</Close>
      </div>
    </Dialog>
  );
}

function Judged({ value, rate, of }: { value: number; rate: Rate; of: M["Usual"] }) {
  const range = of[rate];
  const good = rate === "opened" || rate === "clicked";
  const words = value > range.high ? "above" : value < range.low ? "below" : "usual";
  const colour = words === "usual" ? "text-ink-2" : (words === "above") === good ? "text-clover" : "text-wheat";
  return <span className={`block text-small ${colour}`}>{words}</span>;
}

function Trial({ t }: { t: M["TrialResult"] }) {
  return (
    <section className="mt-6" aria-label="A/B test">
      <h2 className="mb-1">Version A against B in the pilot batch</h2>
      <p>
        {t.versions
          .map((v) => `${v.words}: ${share(v.engaged, v.people)} of ${count(v.people)} ${t.figure}`)
          .join("; ")}
        . B differs by {points(t.difference)} ({points(t.low)} to {points(t.high)}):{" "}
        <b>
          {t.verdict === "yes" ? "B does better" : t.verdict === "harm" ? "A does better" : "no significant difference"}
        </b>
        . {t.settled && `The remaining recipients got ${t.settled}${t.why ? `: ${t.why}` : ""}.`}
      </p>
    </section>
  );
}
