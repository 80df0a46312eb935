import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence, Waiting } from "../../parts/waiting";

const STATE = { pass: "text-clover", fail: "text-poppy", unknown: "text-ink-2" };

const MODE: Record<string, string> = {
  starttls: "STARTTLS, required and verified",
  tls: "TLS from the first byte, verified",
  opportunistic: "TLS where the relay offers it",
  none: "none: in clear",
};

/** The relay: how it is reached, what real connections were, and a check by the code of a real send. */
export function RelayPage() {
  const { moment } = useTimes();
  const client = useQueryClient();
  const [to, setTo] = useState("");
  const [busy, setBusy] = useState(false);
  const { run, error } = useAction();
  const [found, setFound] = useState<M["RelayCheck"] | null>(null);
  const q = useQuery({ queryKey: keys.relay(), queryFn: () => get("/relay") });
  if (!q.data)
    return (
      <Page title="Relay">
        <Waiting error={q.error} what="the relay" />
      </Page>
    );
  const r = q.data;
  const check = async () => {
    setBusy(true);
    setFound(null);
    await run(async () => {
      setFound(await post("/relay/check", { send_to: to }));
    });
    setBusy(false);
    await client.invalidateQueries({ queryKey: keys.relay() });
  };
  const settings: [string, string, string][] = [
    ["relay_host, relay_port", `${r.host} port ${r.port}`, "All mail is sent through this server."],
    ["relay_tls", MODE[r.mode] ?? r.mode, "The default is starttls for every host but this machine."],
    ["relay_user", r.user || "none: no sign-in", "The password is never shown, and never sent in clear."],
    ["relay_helo", r.helo, "The name we give to the relay."],
  ];
  return (
    <Page
      title="Relay"
      lead="Every message is sent through this relay: campaigns, sequences, tests, confirmations and alerts."
      acts={
        <Link className="btn" to="/senders">
          All senders
        </Link>
      }
      side={
        <>
          <h2 className="mb-1">What this means</h2>
          <p className="text-ink-2">
            An error about us (connection, TLS, sign-in, sender) pauses the campaign; no recipient is marked as failed.
            An error about one recipient affects only that recipient.
          </p>
          <p className="mt-2 text-ink-2">
            While the relay cannot be reached, mail stays queued and is retried after 1 to 60 seconds. After 5 minutes
            an alert is sent.
          </p>
        </>
      }
    >
      {r.away && (
        <p className="mb-4 border-y border-rule py-3" role="status">
          <b className="text-poppy">It has accepted no mail since {moment(r.away.since)}.</b>{" "}
          <span className="text-ink-2">
            {r.away.meaning} {count(r.away.waiting)}{" "}
            {r.away.waiting === 1 ? "delivery is queued" : "deliveries are queued"}.
          </span>
        </p>
      )}
      <Table label="Relay settings">
        <thead>
          <tr>
            <th scope="col">Setting</th>
            <th scope="col">Value</th>
            <th scope="col">Meaning</th>
          </tr>
        </thead>
        <tbody>
          {settings.map(([name, value, what]) => (
            <tr key={name}>
              <td className="font-mono text-small">{name}</td>
              <td className="font-semibold">{value}</td>
              <td className="text-ink-2">{what}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <p className="mt-2 text-small text-ink-2">
        Change them on the command line:{" "}
        <span className="font-mono">meadow set relay_host relay.kestrelquay.example</span>
      </p>
      <h2 className="mt-6 mb-1">Connections so far</h2>
      {r.connections.length === 0 ? (
        <p className="text-ink-2">No connections to this relay yet.</p>
      ) : (
        <Table label="Connections">
          <thead>
            <tr>
              <th scope="col">Connection</th>
              <th scope="col">Certificate</th>
              <th scope="col">Signed in</th>
              <th scope="col">Last</th>
              <th scope="col" className="n">
                Connections
              </th>
            </tr>
          </thead>
          <tbody>
            {r.connections.map((k) => (
              <tr key={`${k.mode}${k.version}${k.verified}${k.signed_in}`}>
                <td className="font-semibold">{k.version || "in clear"}</td>
                <td className={k.verified ? "text-clover" : "text-ink-2"}>
                  {k.version ? (k.verified ? "verified" : "not verified") : "–"}
                </td>
                <td>{k.signed_in ? "yes" : "no"}</td>
                <td>{moment(k.last_at)}</td>
                <td className="n">{count(k.connections)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <May to="decide">
        <h2 className="mt-6 mb-1">Check the relay</h2>
        <p className="mb-2 text-ink-2">
          Connects and signs in like a real send. If you enter an address, one small test message is sent to it.
        </p>
        <Form
          className="flex max-w-[520px] gap-2"
          act={() => {
            void check();
          }}
        >
          <input
            className="field"
            value={to}
            onChange={(e) => setTo(e.target.value)}
            placeholder="you@kestrelquay.example (optional)"
            aria-label="Send a test message to"
          />
          <button type="submit" className="btn btn-main" disabled={busy}>
            {busy ? "Checking…" : "Check relay"}
          </button>
        </Form>
        <Sentence error={error} />
        {found && (
          <p className="mt-3" role="status">
            <b className={STATE[found.state]}>{found.state}</b> <span>{found.meaning}</span>
          </p>
        )}
      </May>
    </Page>
  );
}
