import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count, people, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Sentence } from "../../parts/waiting";

/** Consent requests for consent: whom it would reach, the ready campaign, and what came of earlier ones. */
export function AskAgain({ d, analyst }: { d: M["ConsentView"]; analyst: boolean }) {
  const { day } = useTimes();
  const [open, setOpen] = useState(false);
  const q = useQuery({ queryKey: keys.consentRequests(), queryFn: () => get("/consent-requests") });
  const requests = q.data?.requests ?? [];
  return (
    <>
      <div className="mt-7 mb-1 flex items-baseline justify-between">
        <h2>Consent requests</h2>
        {analyst && !open && (
          <button type="button" className="btn btn-bare py-0" onClick={() => setOpen(true)}>
            New request…
          </button>
        )}
      </div>
      {!requests.length && !open && (
        <Quiet>
          No consent requests yet. You may ask once, with one email, people you have an existing relationship with whose
          consent is missing, old or doubtful.
        </Quiet>
      )}
      {open && <Prepare d={d} close={() => setOpen(false)} />}
      {requests.length > 0 && (
        <Table label="Consent requests">
          <thead>
            <tr>
              <th scope="col">Request</th>
              <th scope="col">Purpose</th>
              <th scope="col" className="n">
                Mailed
              </th>
              <th scope="col" className="n">
                Opted in
              </th>
              <th scope="col" className="n">
                No response
              </th>
              <th scope="col">Non-responders</th>
            </tr>
          </thead>
          <tbody>
            {requests.map((r) => (
              <tr key={r.id}>
                <td>
                  <Link className="font-semibold hover:underline" to={`/campaigns/${r.id}/results`}>
                    {r.name}
                  </Link>{" "}
                  <StateTag state={r.state} />
                </td>
                <td className="text-ink-2">{r.asks.join(", ")}</td>
                <td className="n">{count(r.mailed)}</td>
                {(["agreed", "no_reply"] as const).map((word) => (
                  <td key={word} className="n">
                    <Link
                      className="hover:underline"
                      to={`/subscribers/table?rule=${encodeURIComponent(`in segment "${r.name}: ${word.replace("_", " ")}"`)}`}
                    >
                      {count(r[word])}
                    </Link>
                    <span className="ml-1.5 text-small text-ink-2">{r.mailed ? share(r[word], r.mailed) : ""}</span>
                  </td>
                ))}
                <td className="text-ink-2">
                  {r.suppressed_at
                    ? `suppressed on ${day(r.suppressed_at)}`
                    : r.suppress_after_days
                      ? `suppressed on ${day(r.started_at + r.suppress_after_days * 86400)}`
                      : "kept"}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}

function Prepare({ d, close }: { d: M["ConsentView"]; close: () => void }) {
  const go = useNavigate();
  const offered = d.purposes.filter((p) => !p.retired && !p.transactional);
  const [purposes, setPurposes] = useState<string[]>(
    [...offered]
      .sort((a, b) => b.counts.given - a.counts.given)
      .slice(0, 1)
      .map((p) => p.name),
  );
  const [none, setNone] = useState(true);
  const [older, setOlder] = useState("");
  const [sources, setSources] = useState<string[]>([]);
  const [relation, setRelation] = useState("");
  const [letGo, setLetGo] = useState("");
  const { run, error } = useAction();
  const body = {
    purposes,
    none,
    older_days: Number(older) || 0,
    sources,
    relation,
    suppress_after_days: Number(letGo) || 0,
  };
  const ready = purposes.length > 0 && (none || body.older_days > 0 || sources.length > 0);
  const q = useQuery({
    queryKey: keys.consentRequest(purposes, none, body.older_days, sources),
    queryFn: () => post("/consent-requests/preview", body),
    enabled: ready,
    placeholderData: (before) => before,
  });
  const toggle = (list: string[], set: (l: string[]) => void, word: string) =>
    set(list.includes(word) ? list.filter((x) => x !== word) : [...list, word]);
  const found = ready ? q.data : undefined;
  const reached = found ? found.permitted + (relation.trim() ? found.unrelated : 0) : 0;
  return (
    <div className="mb-4 grid grid-cols-[minmax(0,1fr)_300px] gap-x-8 border-y border-rule py-4 max-tablet:block">
      <div>
        <fieldset className="mb-3">
          <legend className="label">Purposes</legend>
          {offered.map((p) => (
            <label key={p.id} className="flex items-baseline gap-2">
              <input
                type="checkbox"
                checked={purposes.includes(p.name)}
                onChange={() => toggle(purposes, setPurposes, p.name)}
              />
              {p.name}
            </label>
          ))}
        </fieldset>
        <fieldset className="mb-3">
          <legend className="label">Subscribers whose consent</legend>
          <label className="flex items-baseline gap-2">
            <input type="checkbox" checked={none} onChange={(e) => setNone(e.target.checked)} />
            is none
          </label>
          <label className="mt-1 flex items-center gap-2">
            is older than
            <input
              className="field w-[90px]!"
              type="number"
              min={0}
              aria-label="Days since consent was given"
              placeholder="no limit"
              value={older}
              onChange={(e) => setOlder(e.target.value)}
            />
            days
          </label>
          {d.sources.length > 0 && (
            <details className="mt-1">
              <summary className="cursor-pointer text-cornflower">
                comes from a doubtful source{sources.length ? ` (${sources.length} chosen)` : ""}
              </summary>
              <div className="mt-1 max-h-[150px] overflow-auto">
                {d.sources.map((s) => (
                  <label key={s} className="flex items-baseline gap-2">
                    <input
                      type="checkbox"
                      checked={sources.includes(s)}
                      onChange={() => toggle(sources, setSources, s)}
                    />
                    {s}
                  </label>
                ))}
              </div>
            </details>
          )}
        </fieldset>
        <label className="mb-3 block">
          <span className="label">
            Your existing relationship with people who have neither booked nor consented (logged). Leave empty to
            exclude them.
          </span>
          <input
            className="field"
            value={relation}
            placeholder="for example: bought tickets at the box office before 2024"
            onChange={(e) => setRelation(e.target.value)}
          />
        </label>
        <label className="mb-1 flex items-center gap-2">
          Suppress non-responders after
          <input
            className="field w-[90px]!"
            type="number"
            min={7}
            max={365}
            aria-label="Days until non-responders are suppressed"
            placeholder="never"
            value={letGo}
            onChange={(e) => setLetGo(e.target.value)}
          />
          days
        </label>
        <p className="mb-4 text-small text-ink-2">
          {Number(letGo)
            ? `The message says so: people who do nothing get no more email after ${letGo} days.`
            : "The message says so: people who do nothing keep what they agreed to before."}
        </p>
        <Sentence error={error} />
        <div className="flex gap-2">
          <button
            type="button"
            className="btn btn-main"
            disabled={!found?.people}
            onClick={async () => {
              await run(async () => {
                const done = await post("/consent-requests", body);
                go(`/campaigns/${done.id}/message`);
              });
            }}
          >
            Create draft for {people(reached)}
          </button>
          <button type="button" className="btn" onClick={close}>
            Cancel
          </button>
        </div>
      </div>
      <div className={q.isFetching ? "dimmed" : ""}>
        {!ready && <p className="text-ink-2">Choose a purpose and whose consent to ask for.</p>}
        <Sentence error={ready ? q.error : null} />
        {found && (
          <Table label="Effect of the request">
            <tbody>
              {found.groups.map((g) => (
                <tr key={g.words}>
                  <td>{g.words}</td>
                  <td className="n">{count(g.count)}</td>
                </tr>
              ))}
              <tr className="font-semibold">
                <td>Subscribers found</td>
                <td className="n">{count(found.people)}</td>
              </tr>
              {found.exclusions.map((s) => (
                <tr key={s.words} className="text-ink-2">
                  <td>{s.words}</td>
                  <td className="n">{count(-s.count)}</td>
                </tr>
              ))}
              <tr className="font-semibold">
                <td>Eligible now</td>
                <td className="n">{count(found.permitted)}</td>
              </tr>
              {found.unrelated > 0 && (
                <tr className="text-ink-2">
                  <td>more if you state the relationship</td>
                  <td className="n">{count(found.unrelated)}</td>
                </tr>
              )}
            </tbody>
          </Table>
        )}
      </div>
    </div>
  );
}
