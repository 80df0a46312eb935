import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { type M, Problem, post } from "../../api/client";
import { count, moment, share } from "../../logic/format";
import { completions, starters, withClause } from "../../logic/rules";
import { BandList, BandWord, Page, Sentence, Trace, Waiting } from "../../parts/basics";
import { useSegments } from "./list";

export function SegmentEditor() {
  const { id } = useParams();
  const all = useSegments();
  const [params] = useSearchParams();
  const known = all.data?.segments.find((s) => String(s.id) === id);
  if (!all.data)
    return (
      <Page title="Segment">
        <Waiting error={all.error} what="the segment" />
      </Page>
    );
  if (id !== "new" && !known)
    return (
      <Page title="Segment">
        <p className="text-ink-2">
          There is no such segment any more.{" "}
          <Link to="/segments" className="text-cornflower underline">
            All segments
          </Link>
        </p>
      </Page>
    );
  return (
    <Editor
      key={id}
      name={known?.name ?? ""}
      rule={known?.rule ?? params.get("rule") ?? ""}
      words={all.data.words}
      saved={known}
    />
  );
}

function Editor({
  name: firstName,
  rule: firstRule,
  words,
  saved,
}: {
  name: string;
  rule: string;
  words: Record<string, string[]>;
  saved: M["Segment"] | undefined;
}) {
  const go = useNavigate();
  const client = useQueryClient();
  const [name, setName] = useState(firstName);
  const [rule, setRule] = useState(firstRule);
  const [settled, setSettled] = useState(firstRule);
  const [caret, setCaret] = useState(firstRule.length);
  const [lot, setLot] = useState(0);
  const [error, setError] = useState<Error | null>(null);
  const field = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    const t = setTimeout(() => setSettled(rule), 160);
    return () => clearTimeout(t);
  }, [rule]);
  const q = useQuery({
    queryKey: ["count", settled, saved?.name ?? "", lot],
    queryFn: ({ signal }) =>
      post<M["RuleCount"]>("/segments/count", { rule: settled, own_name: saved?.name ?? "" }, signal),
    placeholderData: keepPreviousData,
    enabled: settled.trim() !== "",
  });
  const mistake = q.error instanceof Problem && rule.trim() && settled === rule ? q.error : null;
  const offer = completions(rule.slice(0, caret), words);
  const complete = (n: string) => {
    if (!offer) return;
    const tail = rule.slice(caret).replace(/^[^"]*"?/, "");
    const next = `${rule.slice(0, offer.from)}${n.replaceAll('"', '""')}"${tail}`;
    setRule(next);
    setCaret(offer.from + n.length + 1);
    field.current?.focus();
  };
  const save = async () => {
    setError(null);
    try {
      const done = await post<M["Done"]>("/segments", { name, rule });
      await client.invalidateQueries({ queryKey: ["segments"] });
      go(`/segments/${done.id}`, { replace: true });
    } catch (e) {
      setError(e as Error);
    }
  };
  const d = rule.trim() ? q.data : undefined;
  const stale = q.isPlaceholderData || q.isFetching || !!mistake;
  const dirty = rule !== firstRule || name !== firstName;
  return (
    <Page
      title={saved ? saved.name : "New segment"}
      lead={
        saved?.used_by.length
          ? `Used in ${saved.used_by.join(", ")}.`
          : "A rule is a sentence; the count follows while you type."
      }
      acts={
        <>
          <Link className="btn" to="/segments">
            {dirty ? "Leave it as it was" : "All segments"}
          </Link>
          <button
            type="button"
            className="btn btn-main"
            disabled={!name.trim() || !rule.trim() || !!mistake || !dirty}
            onClick={save}
          >
            {saved ? "Keep the change" : "Keep this rule"}
          </button>
        </>
      }
      side={
        d ? (
          <div className={stale ? "opacity-50" : ""}>
            <h2>
              {count(d.count)} people, {share(d.count, d.subscribers)}
            </h2>
            <p className="mb-2 text-[13px] text-ink-2">
              of {count(d.subscribers)}, as of {moment(d.as_of)}, worked out in {(d.seconds * 1000).toFixed(0)} ms
            </p>
            <BandList bands={d.bands} />
            <div className="mt-5 flex items-baseline justify-between">
              <h2>A dozen by lot</h2>
              <button type="button" className="btn btn-bare py-0" onClick={() => setLot(lot + 1)}>
                Draw again
              </button>
            </div>
            <table className="lined text-[13px]">
              <tbody>
                {d.sample.map((r) => (
                  <tr key={r.id}>
                    <td className="max-w-[120px]">
                      <Link to={`/subscribers/${r.id}`} className="block truncate hover:underline">
                        {r.name || r.email}
                      </Link>
                    </td>
                    <td>
                      <Trace trace={r.trace} length={16} />
                    </td>
                    <td className="n">
                      <BandWord band={r.band} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        ) : (
          <Starters
            words={words}
            add={(c) => {
              setRule(withClause(rule, c));
              field.current?.focus();
            }}
          />
        )
      }
    >
      <label className="mb-3 block max-w-[420px]">
        <span className="label">Name</span>
        <input
          className="field"
          value={name}
          onChange={(e) => setName(e.target.value)}
          disabled={!!saved}
          placeholder="for example: Regulars"
        />
      </label>
      <label className="label" htmlFor="rule">
        Rule
      </label>
      <div className="relative">
        <textarea
          id="rule"
          ref={field}
          className="field font-sans text-[16px] leading-6"
          rows={Math.min(10, Math.max(2, Math.ceil(rule.length / 85)))}
          spellCheck={false}
          value={rule}
          aria-invalid={!!mistake}
          placeholder='opened at least 4 in 120 days and permitted for "Season news"'
          onChange={(e) => {
            setRule(e.target.value);
            setCaret(e.target.selectionStart);
          }}
          onSelect={(e) => setCaret(e.currentTarget.selectionStart)}
        />
        {offer && (
          <div className="absolute z-10 mt-1 rounded border border-rule-strong bg-panel py-1 shadow-lg">
            {offer.names.map((n) => (
              <button
                key={n}
                type="button"
                className="block w-full px-4 py-1 text-left hover:bg-cornflower-pale"
                onMouseDown={(e) => {
                  e.preventDefault();
                  complete(n);
                }}
              >
                {n}
              </button>
            ))}
          </div>
        )}
      </div>
      {mistake && (
        <div role="alert" className="mt-2">
          {mistake.place !== null && (
            <p className="font-mono text-[13px] whitespace-pre-wrap text-ink-2">
              {rule.slice(0, mistake.place)}
              <span className="bg-[#f8e0dc] text-poppy underline decoration-wavy">
                {rule.slice(mistake.place, mistake.place + 12) || " ← here "}
              </span>
              {rule.slice(mistake.place + 12)}
            </p>
          )}
          <p className="mt-1 text-poppy">{mistake.message}</p>
        </div>
      )}
      <Sentence error={error} />
      {d && (
        <>
          <h2 className="mt-6 mb-1">The sieve</h2>
          <table className={`lined ${stale ? "opacity-50" : ""}`}>
            <thead>
              <tr>
                <th>{d.sieve[1]?.arm ? "Arm" : "Clause"}</th>
                <th className="w-[34%]">
                  <span className="sr-only">Share left</span>
                </th>
                <th className="n w-[90px]">{d.sieve[1]?.arm ? "Lets in" : "Left"}</th>
                <th className="n w-[130px]">{d.sieve[1]?.arm ? "It alone lets in" : "It alone removes"}</th>
              </tr>
            </thead>
            <tbody>
              {d.sieve.map((r, i) => (
                <tr key={i}>
                  <td>{r.text}</td>
                  <td className="pt-3!">
                    <div className="h-[6px] bg-wash" aria-hidden>
                      <div
                        className="h-full bg-ink-2"
                        style={{ width: `${(100 * r.left) / Math.max(d.subscribers, 1)}%` }}
                      />
                    </div>
                  </td>
                  <td className="n font-semibold">{count(r.left)}</td>
                  <td className="n text-ink-2">{r.alone === null ? "" : count(r.alone)}</td>
                </tr>
              ))}
            </tbody>
          </table>
          <div className="mt-6">
            <Starters
              words={words}
              inline
              add={(c) => {
                setRule(withClause(rule, c));
                field.current?.focus();
              }}
            />
          </div>
        </>
      )}
    </Page>
  );
}

function Starters({
  words,
  add,
  inline,
}: {
  words: Record<string, string[]>;
  add: (clause: string) => void;
  inline?: boolean;
}) {
  return (
    <>
      <h2 className="mb-1">{inline ? "Add a clause" : "Begin with a clause"}</h2>
      <ul className={inline ? "flex flex-wrap gap-x-5" : ""}>
        {starters(words).map((s) => (
          <li key={s.text} className={inline ? "" : "border-b border-rule"}>
            <button
              type="button"
              className="py-1 text-left text-cornflower hover:underline"
              onClick={() => add(s.text)}
              title={s.means}
            >
              {s.text}
            </button>
            {!inline && s.means && <span className="ml-2 text-[13px] text-ink-3">{s.means}</span>}
          </li>
        ))}
      </ul>
    </>
  );
}
