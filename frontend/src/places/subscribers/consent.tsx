import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, patch, post } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Form } from "../../parts/form";
import { useKeys } from "../../parts/keys";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence, Waiting } from "../../parts/waiting";
import { AskAgain } from "./consent-requests";
import { SignUpForms } from "./sign-up-forms";
import { Suppressions } from "./suppressions";
import { SubscriberTabs } from "./tabs";

const useConsent = () => useQuery({ queryKey: keys.consent(), queryFn: () => get("/consent") });

/** Purposes and their wordings, sign-up forms, the evidence, and who is suppressed. */
export function ConsentPage() {
  const me = useMe();
  const client = useQueryClient();
  const q = useConsent();
  const { run, error } = useAction();
  const [adding, setAdding] = useState("");
  const act = async (f: () => Promise<unknown>) => {
    await run(async () => {
      await f();
      await peopleChanged(client);
    });
  };
  useKeys([
    {
      key: "+",
      words: "new purpose",
      act: () => document.querySelector<HTMLInputElement>('input[aria-label="Name of new purpose"]')?.focus(),
    },
  ]);
  const d = q.data;
  if (!d)
    return (
      <Page title="Subscribers" tabs={<SubscriberTabs />}>
        <Waiting error={q.error} what="the consents" />
      </Page>
    );
  const analyst = me.role === "analyst";
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="Purposes, their wording, sign-up forms, and a verifiable record of consent."
      side={<Side d={d} />}
    >
      <h2 className="mb-1">Purposes</h2>
      <Table label="Purposes">
        <thead>
          <tr>
            <th scope="col">Purpose and its wording</th>
            <th scope="col">Basis</th>
            <th scope="col" className="n">
              Given
            </th>
            <th scope="col" className="n">
              Pending
            </th>
            <th scope="col" className="n">
              Withdrawn
            </th>
            <th scope="col" className="n">
              None
            </th>
            <th scope="col" className="n">
              May be mailed
            </th>
            <th scope="col">
              <span className="sr-only">Change</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {d.purposes.map((p) => (
            <tr key={p.id} className={p.retired ? "text-ink-3" : ""}>
              <td className="max-w-[300px]">
                <b>{p.name}</b>
                {p.transactional && <span className="tag tag-plain ml-2 py-0">transactional, no consent needed</span>}
                {p.retired && <span className="tag tag-plain ml-2 py-0">retired</span>}
                <span className="block text-small text-ink-2">
                  {p.text ? `“${p.text}” (version ${p.version})` : "no wording yet"}
                </span>
              </td>
              <td>{p.basis}</td>
              <td className="n font-semibold">{count(p.counts.given)}</td>
              <td className="n">{count(p.counts.pending)}</td>
              <td className="n">{count(p.counts.withdrawn)}</td>
              <td className="n">{count(p.counts.none)}</td>
              <td className="n">
                <Link
                  className="hover:underline"
                  to={`/subscribers/table?rule=${encodeURIComponent(`permitted for "${p.name.replaceAll('"', '""')}"`)}`}
                >
                  {count(p.permitted)}
                </Link>
              </td>
              <td className="n">
                {analyst && <ChangePurpose p={p} bases={d.bases} save={(v) => patch(`/purposes/${p.id}`, v)} />}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {analyst && (
        <Form
          className="mt-2 flex max-w-[420px] gap-2"
          act={() => {
            act(() => post("/purposes", { name: adding })).then(() => setAdding(""));
          }}
        >
          <input
            className="field"
            aria-label="Name of new purpose"
            placeholder="Another purpose, for example: Exhibition news"
            value={adding}
            onChange={(e) => setAdding(e.target.value)}
          />
          <button type="submit" className="btn" disabled={!adding.trim()}>
            Add
          </button>
        </Form>
      )}
      <Sentence error={error} />
      <SignUpForms d={d} analyst={analyst} />
      <AskAgain d={d} analyst={analyst} />
      <Suppressions analyst={analyst} />
    </Page>
  );
}

function Side({ d }: { d: M["ConsentView"] }) {
  const { moment } = useTimes();
  const evidence = useQuery({
    queryKey: keys.consentRecord(),
    queryFn: () => get("/consent/record"),
    staleTime: 300_000,
    refetchInterval: (q) => q.state.data?.pending && 3_000,
  });
  const e = evidence.data;
  return (
    <>
      <h2>Consent record</h2>
      {!e ? (
        <p className="text-ink-2">{evidence.error ? evidence.error.message : "Verifying…"}</p>
      ) : e.pending ? (
        <p className="text-ink-2">Verifying {count(e.entries)} entries…</p>
      ) : (
        <p className={e.verified ? "text-ink-2" : "font-semibold text-poppy"}>
          {e.verified
            ? `${count(e.entries)} entries, hash chain verified.`
            : `Verification failed at entry ${count(e.broken_at ?? 0)}: ${e.what}.`}
        </p>
      )}
      <a className="btn mt-2" href="/api/consent/record.csv" download>
        Download the record
      </a>
      {d.bursts.length > 0 && (
        <>
          <h2 className="mt-6">Suspicious sign-ups</h2>
          {d.bursts.map((b) => (
            <p key={b.network} className="mt-1 border-l-2 border-poppy pl-3">
              {count(b.n)} from {b.network} since {moment(b.first)}, none confirmed. More sign-ups from there are
              blocked for an hour.
            </p>
          ))}
        </>
      )}
      {d.forms.map((f) => (
        <details key={f.id} className="mt-5">
          <summary className="cursor-pointer text-cornflower">“{f.list_name}” on your website</summary>
          <p className="mt-1 mb-1 text-small text-ink-2">Plain HTML without scripts. Its address: {f.address}</p>
          <pre className="code max-h-[260px]">{f.snippet}</pre>
        </details>
      ))}
      <h2 className="mt-6">How consent is recorded</h2>
      <ul className="list-disc pl-4 text-small text-ink-2">
        <li>The latest decision counts; an older opt-in never overrides a withdrawal.</li>
        <li>Wording is never edited: a change creates a new version, and each entry keeps the one that was shown.</li>
        <li>Consent without a source is imported as “none”.</li>
        <li>Unconfirmed sign-ups get only the confirmation email and are deleted after 21 days.</li>
      </ul>
    </>
  );
}

function ChangePurpose({
  p,
  bases,
  save,
}: {
  p: M["Purpose"];
  bases: string[];
  save: (v: Partial<M["PurposeIn"]>) => Promise<unknown>;
}) {
  const client = useQueryClient();
  const [name, setName] = useState(p.name);
  const [text, setText] = useState(p.text);
  const [basis, setBasis] = useState(p.basis);
  const [transactional, setTransactional] = useState(p.transactional);
  const [retired, setRetired] = useState(p.retired);
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0" aria-label={`Change ${p.name}`}>
          Change…
        </button>
      }
      title={p.name}
      words="Save purpose"
      act={async () => {
        await save({ name: name.trim() || p.name, text, basis, transactional, retired });
        await peopleChanged(client);
      }}
    >
      <label className="mb-3 block text-ink">
        <span className="label">Name (rules and segments are updated)</span>
        <input className="field" value={name} maxLength={300} onChange={(e) => setName(e.target.value)} />
      </label>
      <label className="mb-3 block text-ink">
        <span className="label">Wording shown to subscribers</span>
        <textarea className="field" rows={3} value={text} onChange={(e) => setText(e.target.value)} />
        <span className="text-small text-ink-2">
          {p.version && text.trim() !== p.text
            ? `Saved as version ${p.version + 1}. Version ${p.version} stays for those who agreed to it.`
            : p.version
              ? `Version ${p.version}.`
              : "Saved as version 1."}
        </span>
      </label>
      <Versions purpose={p.id} />
      <label className="mb-3 block text-ink">
        <span className="label">Legal basis</span>
        <select className="field" value={basis} onChange={(e) => setBasis(e.target.value)}>
          {bases.map((b) => (
            <option key={b}>{b}</option>
          ))}
        </select>
      </label>
      <label className="mb-2 flex items-baseline gap-2 text-ink">
        <input type="checkbox" checked={transactional} onChange={(e) => setTransactional(e.target.checked)} />
        Transactional (for example tickets): no consent needed; only for people with a booking or a contract
      </label>
      <label className="flex items-baseline gap-2 text-ink">
        <input type="checkbox" checked={retired} onChange={(e) => setRetired(e.target.checked)} />
        Retired: no longer offered; existing records stay
      </label>
    </Ask>
  );
}

/** Every version of a wording, with how many people said yes to it. */
function Versions({ purpose }: { purpose: number }) {
  const { moment } = useTimes();
  const q = useQuery({
    queryKey: keys.wordings(purpose),
    queryFn: () => get(`/purposes/${purpose}/wordings`),
  });
  if (!q.data?.wordings.length) return null;
  return (
    <details className="mb-3">
      <summary className="cursor-pointer text-cornflower">All versions, {count(q.data.wordings.length)}</summary>
      <Table label="Earlier wordings" className="mt-1 text-ink">
        <tbody>
          {q.data.wordings.map((w) => (
            <tr key={w.id}>
              <td className="w-6">{w.version}</td>
              <td>
                “{w.text}”<span className="block text-small text-ink-2">since {moment(w.made_at)}</span>
              </td>
              <td className="n whitespace-nowrap">
                {count(w.people)} {w.people === 1 ? "person" : "people"}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </details>
  );
}
