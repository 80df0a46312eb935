import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post, put } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count, duration, people, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence, Waiting } from "../../parts/waiting";
import { TryAddresses } from "./address-lookup";
import { PossibleDuplicates } from "./duplicates";
import { SubscriberTabs } from "./tabs";
import { VERDICT_COLOUR } from "./verdicts";

const MEANS: Record<string, string> = {
  deliverable: "no problems found",
  risky: "warning signs",
  undeliverable: "proven: the mailbox does not exist",
  unknown: "inconclusive",
};

const goesOn = (j: M["Job"]) => j.state === "waiting" || j.state === "working";

/** Is anybody there? Verdicts over everybody, the slips with what was meant, and checks with what they cost. */
export function AddressChecksPage() {
  const me = useMe();
  const client = useQueryClient();
  const jobs = useQuery({
    queryKey: keys.jobs(),
    queryFn: () => get("/jobs"),
    refetchInterval: (x) => (x.state.data?.jobs.some(goesOn) ? 1000 : false),
  });
  const q = useQuery({
    queryKey: keys.addresses(),
    queryFn: () => get("/addresses"),
    refetchInterval: jobs.data?.jobs.some(goesOn) ? 4000 : false,
  });
  const { run, error } = useAction();
  const d = q.data;
  if (!d)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Waiting error={q.error} what="the verdicts" />
      </Page>
    );
  const total = Object.values(d.counts).reduce((a, b) => a + b, 0) + d.unchecked;
  const analyst = me.role === "analyst";
  const accept = async (typed: string) => {
    const done = await post("/addresses/accept", { typed });
    await peopleChanged(client);
    offerUndo({
      words: `${count(done.people)} addresses corrected.`,
      undo: async () => {
        await post(`/activity/${done.action}/undo`);
        await peopleChanged(client);
      },
    });
  };
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="Undeliverable needs proof, risky is a warning, unknown means we could not tell. Corrections are applied only by you."
      side={<Check d={d} analyst={analyst} jobs={jobs.data?.jobs ?? []} />}
    >
      {analyst && <TryAddresses job={jobs.data?.jobs.find((j) => j.kind === "address file")} />}
      <Table label="Verdicts">
        <thead>
          <tr>
            <th scope="col">Result</th>
            <th scope="col" className="n">
              People
            </th>
            <th scope="col" className="n">
              Share
            </th>
            <th scope="col">Meaning</th>
          </tr>
        </thead>
        <tbody>
          {Object.entries(d.counts).map(([v, n]) => (
            <tr key={v}>
              <td className={`font-semibold ${VERDICT_COLOUR[v]}`}>{v}</td>
              <td className="n">
                <Link
                  className="hover:underline"
                  to={`/subscribers/table?rule=${encodeURIComponent(`address is ${v}`)}`}
                >
                  {count(n)}
                </Link>
              </td>
              <td className="n text-ink-2">{share(n, total)}</td>
              <td className="text-ink-2">{MEANS[v]}</td>
            </tr>
          ))}
          <tr>
            <td className="font-semibold text-ink-2">not checked</td>
            <td className="n">{count(d.unchecked)}</td>
            <td className="n text-ink-2">{share(d.unchecked, total)}</td>
            <td className="text-ink-2">{d.required ? "not mailed until checked" : "still mailed"}</td>
          </tr>
        </tbody>
      </Table>
      <Sentence error={error} />
      {d.slips.length > 0 && (
        <>
          <div className="mt-7 mb-1 flex items-baseline justify-between">
            <h2>Possible typos</h2>
            {analyst && (
              <Ask
                trigger={
                  <button type="button" className="btn btn-bare py-0">
                    Correct all…
                  </button>
                }
                title="Correct all of them?"
                words="Correct addresses"
                act={() => accept("")}
              >
                {people(d.slips.reduce((n, s) => n + s.count, 0))} get the suggested address. Where a subscriber with
                that address exists, nothing changes. You can undo this.
              </Ask>
            )}
          </div>
          <Table label="Possible typos">
            <thead>
              <tr>
                <th scope="col">As entered</th>
                <th scope="col">Suggestion</th>
                <th scope="col" className="n">
                  People
                </th>
                <th scope="col">Example</th>
                <th scope="col">
                  <span className="sr-only">Accept</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {d.slips.map((s) => (
                <tr key={s.typed + s.meant}>
                  <td className="font-mono text-small">{s.typed}</td>
                  <td className="font-mono text-small text-clover">{s.meant}</td>
                  <td className="n">{count(s.count)}</td>
                  <td className="max-w-[220px] truncate text-ink-2">{s.example}</td>
                  <td className="n">
                    {analyst && (
                      <button
                        type="button"
                        className="btn btn-bare py-0"
                        aria-label={`Correct ${s.typed} to ${s.meant}`}
                        onClick={() => run(() => accept(s.typed))}
                      >
                        Correct
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
      <PossibleDuplicates />
      {d.reasons.length > 0 && (
        <>
          <h2 className="mt-7 mb-1">Why</h2>
          <Table label="Reasons">
            <tbody>
              {d.reasons.map((r) => (
                <tr key={r.words + r.verdict}>
                  <td className={`w-[90px] font-semibold ${VERDICT_COLOUR[r.verdict]}`}>{r.verdict}</td>
                  <td>{r.words}</td>
                  <td className="n">{count(r.count)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </Page>
  );
}

function Check({ d, analyst, jobs }: { d: M["AddressSummary"]; analyst: boolean; jobs: M["Job"][] }) {
  const client = useQueryClient();
  const segments = useQuery({ queryKey: keys.segments(), queryFn: () => get("/segments") });
  const [rule, setRule] = useState("");
  const [hosts, setHosts] = useState(false);
  const { run, error } = useAction();
  const body = { choice: { rule, text: "", bands: [], ids: null, without: [] }, ask_hosts: hosts };
  const cost = useQuery({
    queryKey: keys.addressCost(rule, hosts),
    queryFn: () => post("/addresses/cost", body),
    placeholderData: (b) => b,
  });
  const job = jobs.find((j) => j.kind === "addresses");
  const under = job && ["waiting", "working", "paused"].includes(job.state);
  const go = async (path: string, send?: unknown) => {
    await run(async () => {
      await post(path, send);
      await client.invalidateQueries({ queryKey: keys.jobs() });
    });
  };
  const c = cost.data;
  return (
    <>
      <h2>Check addresses</h2>
      <label className="mt-2 block">
        <span className="label">Which addresses</span>
        <select className="field" value={rule} onChange={(e) => setRule(e.target.value)}>
          <option value="">all subscribers</option>
          <option value="address is unknown or not checked">not checked or unknown</option>
          {segments.data?.segments.map((s) => (
            <option key={s.id} value={`in segment "${s.name.replaceAll('"', '""')}"`}>
              {s.name}
            </option>
          ))}
        </select>
      </label>
      <label className="mt-2 flex items-baseline gap-2">
        <input type="checkbox" checked={hosts} onChange={(e) => setHosts(e.target.checked)} />
        Also query mail servers: one connection each, nothing is sent
      </label>
      {c && (
        <p className={`mt-2 text-ink-2 ${cost.isFetching ? "dimmed" : ""}`}>
          {people(c.people)}: {count(c.domains)} domains to look up{hosts && `, ${count(c.questions)} mailboxes`}; about{" "}
          {duration(Math.max(1, c.seconds))}. Recent results are reused.
        </p>
      )}
      <Sentence error={error} />
      {analyst && !under && (
        <button
          type="button"
          className="btn btn-main mt-3"
          disabled={!c?.people}
          onClick={() => go("/addresses/check", body)}
        >
          Check {c ? people(c.people) : "them"}
        </button>
      )}
      {job && under && (
        <div className="mt-3" role="status">
          <p>
            {job.state === "paused" ? "Paused at" : "Checked"} {count(job.done)} of {count(job.total)}
          </p>
          <div className="mt-1 h-[6px] bg-wash">
            <div className="h-full bg-cornflower" style={{ width: `${(100 * job.done) / Math.max(1, job.total)}%` }} />
          </div>
          {analyst && (
            <button
              type="button"
              className="btn mt-2"
              onClick={() => go(`/jobs/${job.id}/${job.state === "paused" ? "resume" : "pause"}`)}
            >
              {job.state === "paused" ? "Resume" : "Pause"}
            </button>
          )}
        </div>
      )}
      <h2 className="mt-7">Before the first email</h2>
      <label className="mt-1 flex items-baseline gap-2">
        <input
          type="checkbox"
          disabled={!analyst}
          checked={d.required}
          onChange={async (e) => {
            const fresh = await put("/addresses/required", { required: e.target.checked });
            client.setQueryData(keys.addresses(), fresh);
          }}
        />
        Require an address check before the first email
      </label>
    </>
  );
}
