import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { get, type M, post, remove } from "../../api/client";
import { keys } from "../../api/keys";
import { useStatus } from "../../api/status";
import { ago } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Form } from "../../parts/form";
import { useKeys } from "../../parts/keys";
import { May } from "../../parts/may";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence, Waiting } from "../../parts/waiting";
import { Keys, LookUps } from "./keys-and-spf";
import { SendersOverview } from "./overview";

const COLOUR = { pass: "text-clover", warning: "text-wheat", fail: "text-poppy", unknown: "text-ink-2" };
const WORDS = {
  pass: "all records pass",
  warning: "can send, with warnings",
  fail: "failing: campaigns from it cannot start",
  unknown: "not checked yet",
};

export function SenderPlace() {
  const { id } = useParams();
  const q = useQuery({
    queryKey: keys.senders(),
    queryFn: () => get("/senders"),
    refetchInterval: (x) => (x.state.data?.domains.some((d) => d.checked_at === null) ? 1500 : false),
  });
  if (!q.data)
    return (
      <Page title="Senders">
        <Waiting error={q.error} what="your senders" />
      </Page>
    );
  const all = q.data.domains;
  if (!id) return <SendersOverview all={all} />;
  const one = all.find((d) => String(d.id) === id);
  if (!one)
    return (
      <Page title="Senders">
        <p className="mb-3 text-poppy">This domain is not set up here.</p>
        <Link className="text-cornflower underline" to="/senders">
          All senders
        </Link>
      </Page>
    );
  return <Domain key={one.id} d={one} all={all} />;
}

function Domain({ d, all }: { d: M["Domain"]; all: M["Domain"][] }) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const me = useMe();
  const now = useStatus().data?.now ?? d.checked_at ?? 0;
  const { run, error } = useAction();
  const [busy, setBusy] = useState(false);
  const [shown, setShown] = useState<string>(
    () => d.records.find((r) => r.state !== "pass" && r.publish)?.record ?? "",
  );
  const act = (f: () => Promise<unknown>) => async () => {
    setBusy(true);
    await run(async () => {
      await f();
    });
    setBusy(false);
    await client.invalidateQueries({ queryKey: keys.senders() });
  };
  const go = useNavigate();
  const list = useRows(all.length, (i) => {
    const x = all[i];
    return x
      ? [
          { words: `Open ${x.name}`, act: () => go(`/senders/${x.id}`) },
          { words: "Check its records now", act: act(() => post(`/senders/${x.id}/check`)) },
        ]
      : [];
  });
  useKeys([{ key: "+", words: "all senders, to add a domain", act: () => go("/senders") }]);
  const missing = d.records.filter((r) => r.publish && r.state !== "pass");
  const record = d.records.find((r) => r.record === shown && r.publish);
  return (
    <Page
      title={d.name}
      tag={<StateTag state={d.state} />}
      lead={`${WORDS[d.state][0]?.toUpperCase()}${WORDS[d.state].slice(1)}. ${d.checked_at ? `Checked ${ago(d.checked_at, now)}; rechecked every hour.` : "Checking now."}`}
      acts={
        <>
          <Link className="btn" to="/senders">
            All senders
          </Link>
          <May to="decide">
            <Ask
              trigger={
                <button type="button" className="btn">
                  Remove domain…
                </button>
              }
              title={`Remove ${d.name}?`}
              words="Remove domain"
              grave
              act={async () => {
                await remove(`/senders/${d.id}`);
                offerUndo({
                  words: `${d.name} removed.`,
                  undo: async () => {
                    await post(`/senders/${d.id}/restore`);
                    await client.invalidateQueries({ queryKey: keys.senders() });
                  },
                });
                await client.invalidateQueries({ queryKey: keys.senders() });
                go("/senders");
              }}
            >
              It and its {d.addresses.length} from {d.addresses.length === 1 ? "address" : "addresses"} are offered
              nowhere any more and no longer checked. Results of what was sent stay. Adding it again brings it back.
            </Ask>
            <button type="button" className="btn" disabled={busy} onClick={act(() => post(`/senders/${d.id}/check`))}>
              Check now
            </button>
          </May>
        </>
      }
      side={
        <>
          {missing.length > 0 ? (
            <>
              <div className="mb-2 flex items-center justify-between gap-2">
                <h2>Publish this</h2>
                <select
                  className="field w-auto py-0.5"
                  aria-label="Record to publish"
                  value={record?.record ?? "all"}
                  onChange={(e) => setShown(e.target.value)}
                >
                  {missing.map((r) => (
                    <option key={r.record}>{r.record}</option>
                  ))}
                  <option value="all">all, as a zone file</option>
                </select>
              </div>
              <pre className="code">{(record ? [record] : missing).map((r) => r.publish).join("\n\n")}</pre>
              <div className="mt-2 flex flex-wrap gap-2">
                <button
                  type="button"
                  className="btn"
                  onClick={() =>
                    navigator.clipboard.writeText((record ? [record] : missing).map((r) => r.publish).join("\n"))
                  }
                >
                  Copy
                </button>
                <a className="btn" href={`/api/senders/${d.id}/zone`} download>
                  Download zone file
                </a>
                {me.demo && (
                  <May to="decide">
                    <Ask
                      trigger={
                        <button type="button" className="btn">
                          Publish by dynamic update…
                        </button>
                      }
                      title={`Publish ${missing.length} ${missing.length === 1 ? "record" : "records"}?`}
                      words="Publish"
                      act={async () => {
                        await post(`/senders/${d.id}/publish`);
                        await client.invalidateQueries({ queryKey: keys.senders() });
                      }}
                    >
                      Publishes the records that do not pass to the DNS server as a dynamic update (RFC 2136). Existing
                      records of these names are replaced.
                    </Ask>
                  </May>
                )}
              </div>
            </>
          ) : (
            <>
              <h2>Nothing to publish</h2>
              <p className="text-ink-2">All records are correct.</p>
            </>
          )}
          <h2 className="mt-6 mb-1">From addresses</h2>
          <Table label="From addresses">
            <tbody>
              {d.addresses.map((a) => (
                <tr key={a.id}>
                  <td className="max-w-[190px]">
                    <span className="block truncate" title={a.address}>
                      {a.address}
                    </span>
                    {a.looks_like && <span className="block text-small text-poppy">looks like {a.looks_like}</span>}
                  </td>
                  <td className="n">
                    {a.confirmed_at ? (
                      <span className="font-semibold text-clover">confirmed</span>
                    ) : (
                      <>
                        <span className="font-semibold text-wheat">unconfirmed</span>
                        <May to="decide">
                          <button
                            type="button"
                            className="btn btn-bare ml-1 py-0"
                            onClick={act(() => post(`/from-addresses/${a.id}/confirm`))}
                          >
                            resend confirmation
                          </button>
                        </May>
                      </>
                    )}
                    <May to="decide">
                      <button
                        type="button"
                        className="ml-1.5 text-ink-3 hover:text-poppy"
                        aria-label={`Remove ${a.address}`}
                        title="Remove"
                        onClick={act(async () => {
                          await remove(`/from-addresses/${a.id}`);
                          offerUndo({
                            words: `${a.address} removed.`,
                            undo: async () => {
                              await post(`/from-addresses/${a.id}/restore`);
                              await client.invalidateQueries({ queryKey: keys.senders() });
                            },
                          });
                        })}
                      >
                        ×
                      </button>
                    </May>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
          <May to="decide">
            <Form
              className="mt-3 flex gap-2"
              act={(form) => {
                const f = form;
                const name = String(new FormData(f).get("name"));
                act(async () => {
                  await post(`/senders/${d.id}/addresses`, { name });
                  f.reset();
                })();
              }}
            >
              <input
                className="field"
                name="name"
                placeholder={`hello@${d.name}`}
                aria-label="From address to add"
                required
              />
              <button type="submit" className="btn" disabled={busy}>
                Add
              </button>
            </Form>
          </May>
          <p className="mt-2 text-small text-ink-2">
            We send a confirmation link to the address. It can be used once confirmed.
            {me.demo && (
              <>
                {" "}
                In the demo, open{" "}
                <a className="text-cornflower underline" target="_blank" rel="noreferrer" href={`${me.world_url}/`}>
                  its mailboxes
                </a>
                .
              </>
            )}
          </p>
        </>
      }
    >
      <Sentence error={error} />
      {d.looks_like && (
        <p className="mb-3 border-l-2 border-wheat pl-3">
          This name differs by one letter from {d.looks_like}. Mail clients and filters treat such lookalikes as
          spoofing. Use a name that looks different.
        </p>
      )}
      <Table label="Records">
        <thead>
          <tr>
            <th scope="col" className="w-[110px]">
              Record
            </th>
            <th scope="col" className="w-[46%]">
              Found
            </th>
            <th scope="col">Meaning</th>
          </tr>
        </thead>
        <tbody>
          {d.records.map((r) => (
            <tr key={r.record}>
              <td className="py-2.5!">
                <b>{r.record}</b>
                <br />
                <span className={`font-semibold ${COLOUR[r.state]}`}>{r.state}</span>
              </td>
              <td className="py-2.5!">
                <span className="font-mono text-small [overflow-wrap:anywhere]">{r.found}</span>
              </td>
              <td className="py-2.5! text-ink-2">{r.meaning}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <Keys d={d} />
      <LookUps d={d} />
      {d.changes.length > 0 && (
        <>
          <h2 className="mt-6 mb-1">Change history</h2>
          <Table label="Change history">
            <tbody>
              {d.changes.slice(0, 8).map((c) => (
                <tr key={`${c.at}${c.record}${c.after}`}>
                  <td className="w-[150px] whitespace-nowrap text-ink-2">{moment(c.at)}</td>
                  <td className="w-[150px] font-semibold">{c.record}</td>
                  <td className="whitespace-nowrap">
                    {c.before} → {c.after}
                  </td>
                  <td className="max-w-[340px] truncate font-mono text-small text-ink-2" title={c.found}>
                    {c.found}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      {list.menu}
    </Page>
  );
}
