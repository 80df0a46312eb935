import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";

const people = (n: number) => `${count(n)} ${n === 1 ? "person" : "people"}`;

/** The relay's log settles what it names. */
function RelayLog({ id, done }: { id: number; done: (said: string) => Promise<void> }) {
  const [text, setText] = useState("");
  const [complete, setComplete] = useState(false);
  return (
    <Ask
      trigger={
        <button type="button" className="btn">
          Use the relay log…
        </button>
      }
      title="Resolve with the relay log"
      words="Read the log"
      disabled={!text.trim()}
      act={async () => {
        const r = await post(`/campaigns/${id}/relay-log`, { text, complete });
        await done(
          `${people(r.arrived)} received it, ${people(r.again)} will be sent it again, ${count(r.left)} remain.`,
        );
        setText("");
      }}
    >
      Paste its lines or choose the file. Any format with Message-IDs or return paths works. Everyone it names was sent
      the message.
      <textarea
        className="field mt-3 h-40 font-mono text-tiny"
        aria-label="Relay log lines"
        value={text}
        onChange={(e) => setText(e.target.value)}
      />
      <input
        type="file"
        className="mt-2 block"
        aria-label="Relay log file"
        onChange={async (e) => setText((await e.target.files?.[0]?.text()) ?? "")}
      />
      <label className="mt-3 flex gap-2 text-ink">
        <input type="checkbox" checked={complete} onChange={(e) => setComplete(e.target.checked)} />
        The log is complete for this time: anyone it does not name did not receive the message and is sent it again.
      </label>
    </Ask>
  );
}

/** Deliveries that the relay never confirmed: person, Message-ID and time, settled one by one, by log, or all at once. */
export function Unconfirmed({ c, n }: { c: M["Campaign"]; n: number }) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const { run, error } = useAction();
  const [said, setSaid] = useState("");
  const [open, setOpen] = useState(false);
  const q = useQuery({
    queryKey: keys.unconfirmed(c.id, n),
    queryFn: () => get(`/campaigns/${c.id}/unconfirmed`),
    enabled: n > 0 && open,
  });
  const done = async (words: string) => {
    setSaid(words);
    await changedIn(client, "campaigns");
  };
  const settle = async (arrived: boolean, deliveries: number[] | null) => {
    await post(`/campaigns/${c.id}/resolve`, { arrived, deliveries });
    await changedIn(client, "campaigns");
  };
  if (!n) return said ? <p role="status">{said}</p> : null;
  return (
    <section className="mb-4 border-y border-rule py-3" aria-label="Unconfirmed deliveries">
      <div className="flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <p className="max-w-[64ch]">
          <b className="text-poppy">{count(n)} unconfirmed.</b>{" "}
          <span className="text-ink-2">
            The worker stopped or the connection broke before the relay confirmed these emails. An open, click, reply or
            bounce resolves one automatically; the relay log resolves all it names.
          </span>
        </p>
        <span className="flex flex-wrap gap-2">
          <button type="button" className="btn" aria-expanded={open} onClick={() => setOpen(!open)}>
            {open ? "Hide" : "Show"}
          </button>
          <May to="decide">
            <RelayLog id={c.id} done={done} />
            <Ask
              trigger={
                <button type="button" className="btn">
                  Mark all as sent…
                </button>
              }
              title={`Count ${people(n)} as sent?`}
              words="Mark as sent"
              act={() => settle(true, null)}
            >
              They count as sent and get no second copy. If the message did not arrive, they receive nothing.
            </Ask>
            <Ask
              trigger={
                <button type="button" className="btn">
                  Resend to all…
                </button>
              }
              title={`Resend to ${people(n)}?`}
              words="Resend"
              grave
              act={() => settle(false, null)}
            >
              Up to {people(n)} may receive it twice. The relay log shows who already has it.
            </Ask>
          </May>
        </span>
      </div>
      {said && (
        <p className="mt-1" role="status">
          {said}
        </p>
      )}
      <Sentence error={error} />
      {open && (
        <Table label="Unconfirmed deliveries" className="mt-2">
          <thead>
            <tr>
              <th scope="col">Person</th>
              <th scope="col">Message-ID</th>
              <th scope="col">Time</th>
              <th scope="col">Details</th>
              <th scope="col" />
            </tr>
          </thead>
          <tbody>
            {(q.data?.people ?? []).map((u) => (
              <tr key={u.delivery}>
                <td>
                  <Link className="hover:underline" to={`/subscribers/${u.subscriber}`}>
                    {u.name || u.email}
                  </Link>
                  {u.name && <span className="block text-small text-ink-2">{u.email}</span>}
                </td>
                <td className="font-mono text-tiny [overflow-wrap:anywhere]">{u.message_id}</td>
                <td className="whitespace-nowrap">{moment(u.at)}</td>
                <td className="text-ink-2">{u.why}</td>
                <td className="n whitespace-nowrap">
                  <May to="decide">
                    <button
                      type="button"
                      className="btn btn-bare py-0"
                      onClick={() => run(() => settle(true, [u.delivery]))}
                    >
                      mark as sent
                    </button>
                    <button
                      type="button"
                      className="btn btn-bare py-0"
                      onClick={() => run(() => settle(false, [u.delivery]))}
                    >
                      resend
                    </button>
                  </May>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {open && !q.data && <p className="mt-2 text-ink-2">{q.error ? q.error.message : "Loading…"}</p>}
    </section>
  );
}

/** What failed at the relay, by its words; a refusal that was not about these people can be taken back in one act. */
export function RefusedGroups({ c, failed }: { c: M["Campaign"]; failed: number }) {
  const client = useQueryClient();
  const q = useQuery({
    queryKey: keys.refused(c.id, failed),
    queryFn: () => get(`/campaigns/${c.id}/refused`),
    enabled: failed > 0,
  });
  const groups = q.data?.groups ?? [];
  if (!failed || !groups.length) return null;
  return (
    <>
      <h2 className="mt-6 mb-1">Rejected by the relay</h2>
      <Table label="Rejected by the relay">
        <tbody>
          {groups.slice(0, 12).map((g) => (
            <tr key={g.words}>
              <td className="font-mono text-small [overflow-wrap:anywhere]">{g.example}</td>
              <td className="n w-24">{people(g.people)}</td>
              <td className="n w-56">
                <May to="decide">
                  <Ask
                    trigger={
                      <button type="button" className="btn btn-bare py-0">
                        queue again…
                      </button>
                    }
                    title={`Queue ${people(g.people)} again?`}
                    words={`Queue again`}
                    act={async () => {
                      await post(`/campaigns/${c.id}/requeue`, { words: g.words });
                      await changedIn(client, "campaigns");
                    }}
                  >
                    For a rejection that was about us, or a provider's mistake. The bounce is removed from their
                    history, the suppression it caused ends, and they are sent the message with the rest of their batch.
                  </Ask>
                </May>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}
