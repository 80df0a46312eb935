import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, patch, post } from "../../api/client";
import { count, moment } from "../../logic/format";
import { Ask, Page, Sentence, Waiting } from "../../parts/basics";
import { useKeys, useMe } from "../../parts/me";
import { AskAgain } from "./ask-again";
import { SignUpForms } from "./sign-up-forms";
import { Suppressions } from "./suppressions";
import { SubscriberTabs } from "./tabs";

const useConsent = () => useQuery({ queryKey: ["consent"], queryFn: () => get("/consent") });

/** Purposes and their wordings, sign-up forms, the evidence, and who is suppressed. */
export function ConsentPage() {
  const me = useMe();
  const client = useQueryClient();
  const q = useConsent();
  const [error, setError] = useState<Error | null>(null);
  const [adding, setAdding] = useState("");
  const act = async (f: () => Promise<unknown>) => {
    setError(null);
    try {
      await f();
      await client.invalidateQueries({ predicate: (x) => x.queryKey[0] !== "me" });
    } catch (e) {
      setError(e as Error);
    }
  };
  useKeys([
    {
      key: "+",
      words: "a new purpose",
      act: () => document.querySelector<HTMLInputElement>('input[aria-label="Name of a new purpose"]')?.focus(),
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
      lead="What people may agree to, in which words, by which form; and what they said, as evidence that can be checked."
      side={<Side d={d} />}
    >
      <h2 className="mb-1">Purposes</h2>
      <table className="lined">
        <thead>
          <tr>
            <th>Purpose and its wording</th>
            <th>Basis</th>
            <th className="n">Given</th>
            <th className="n">Awaiting</th>
            <th className="n">Withdrawn</th>
            <th className="n">None</th>
            <th className="n">Permitted</th>
            <th>
              <span className="sr-only">Change</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {d.purposes.map((p) => (
            <tr key={p.id} className={p.left_out ? "text-ink-3" : ""}>
              <td className="max-w-[300px]">
                <b>{p.name}</b>
                {p.transactional && <span className="tag tag-plain ml-2 py-0">service, needs no consent</span>}
                {p.left_out && <span className="tag tag-plain ml-2 py-0">not offered</span>}
                <span className="block text-[13px] text-ink-2">
                  {p.text ? `“${p.text}” (version ${p.version})` : "no wording yet"}
                </span>
              </td>
              <td>{p.basis}</td>
              <td className="n font-semibold">{count(p.counts.given)}</td>
              <td className="n">{count(p.counts.awaiting)}</td>
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
      </table>
      {analyst && (
        <form
          className="mt-2 flex max-w-[420px] gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            act(() => post("/purposes", { name: adding })).then(() => setAdding(""));
          }}
        >
          <input
            className="field"
            aria-label="Name of a new purpose"
            placeholder="Another purpose, such as: Exhibition news"
            value={adding}
            onChange={(e) => setAdding(e.target.value)}
          />
          <button type="submit" className="btn" disabled={!adding.trim()}>
            Add
          </button>
        </form>
      )}
      <Sentence error={error} />
      <SignUpForms d={d} analyst={analyst} />
      <AskAgain d={d} analyst={analyst} />
      <Suppressions analyst={analyst} />
    </Page>
  );
}

function Side({ d }: { d: M["ConsentView"] }) {
  const evidence = useQuery({
    queryKey: ["evidence"],
    queryFn: () => get("/consent/evidence"),
    staleTime: 300_000,
  });
  const e = evidence.data;
  return (
    <>
      <h2>The evidence</h2>
      {!e ? (
        <p className="text-ink-2">{evidence.error ? evidence.error.message : "Going through the chain…"}</p>
      ) : (
        <p className={e.holds ? "text-ink-2" : "font-semibold text-poppy"}>
          {e.holds
            ? `${count(e.entries)} entries, each carrying the hash of the one before. The chain holds.`
            : `The chain breaks at entry ${count(e.broken_at ?? 0)}: ${e.what}.`}
        </p>
      )}
      <a className="btn mt-2" href="/api/consent/evidence.csv" download>
        Save all of it
      </a>
      {d.bursts.length > 0 && (
        <>
          <h2 className="mt-6">Sign-ups that look made</h2>
          {d.bursts.map((b) => (
            <p key={b.network} className="mt-1 border-l-2 border-poppy pl-3">
              {count(b.n)} from {b.network} since {moment(b.first)}, none of them confirmed. More from there is refused
              for an hour.
            </p>
          ))}
        </>
      )}
      {d.forms.map((f) => (
        <details key={f.id} className="mt-5">
          <summary className="cursor-pointer text-cornflower">“{f.list_name}” on your own page</summary>
          <p className="mt-1 mb-1 text-[13px] text-ink-2">Plain HTML, no script. Its address: {f.address}</p>
          <pre className="code max-h-[260px]">{f.snippet}</pre>
        </details>
      ))}
      <h2 className="mt-6">How words are kept</h2>
      <ul className="list-disc pl-4 text-[13px] text-ink-2">
        <li>The latest word decides; a withdrawal is never overwritten by an older yes.</li>
        <li>
          A wording is never edited: another text is another version, and each entry keeps the one that was shown.
        </li>
        <li>Consent claimed without a source is brought in as none.</li>
        <li>Who awaits confirmation is mailed the question and nothing else, and is forgotten after 21 days.</li>
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
  const [leftOut, setLeftOut] = useState(p.left_out);
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
        await save({ name: name.trim() || p.name, text, basis, transactional, left_out: leftOut });
        await client.invalidateQueries();
      }}
    >
      <label className="mb-3 block text-ink">
        <span className="label">Name; rules and segments follow it</span>
        <input className="field" value={name} maxLength={300} onChange={(e) => setName(e.target.value)} />
      </label>
      <label className="mb-3 block text-ink">
        <span className="label">What people agree to, in the words they see</span>
        <textarea className="field" rows={3} value={text} onChange={(e) => setText(e.target.value)} />
        <span className="text-[13px] text-ink-2">
          {p.version && text.trim() !== p.text
            ? `Version ${p.version + 1} begins; version ${p.version} is kept, for those who agreed to it.`
            : p.version
              ? `Version ${p.version}.`
              : "This becomes version 1."}
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
        Service, such as tickets: needs no consent, reaches only who booked or whose contract an import states
      </label>
      <label className="flex items-baseline gap-2 text-ink">
        <input type="checkbox" checked={leftOut} onChange={(e) => setLeftOut(e.target.checked)} />
        Not offered any more; what people said stays
      </label>
    </Ask>
  );
}

/** Every version of a wording, with how many people said yes to it. */
function Versions({ purpose }: { purpose: number }) {
  const q = useQuery({
    queryKey: ["wordings", purpose],
    queryFn: () => get(`/purposes/${purpose}/wordings`),
  });
  if (!q.data?.wordings.length) return null;
  return (
    <details className="mb-3">
      <summary className="cursor-pointer text-cornflower">All versions, {count(q.data.wordings.length)}</summary>
      <table className="lined mt-1 text-ink">
        <tbody>
          {q.data.wordings.map((w) => (
            <tr key={w.id}>
              <td className="w-6">{w.version}</td>
              <td>
                “{w.text}”<span className="block text-[13px] text-ink-2">since {moment(w.made_at)}</span>
              </td>
              <td className="n whitespace-nowrap">
                {count(w.people)} {w.people === 1 ? "person" : "people"}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </details>
  );
}
