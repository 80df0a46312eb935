import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { type M, Problem, post, put } from "../../api/client";
import { keys } from "../../api/keys";
import { grouped, isGroup, type Names, partsOf, type Tree, textOf } from "../../logic/clauses";
import { count, share } from "../../logic/format";
import { starters, withClause } from "../../logic/rules";
import { useAction } from "../../parts/action";
import { BandList, BandWord } from "../../parts/bands";
import { ExportButton } from "../../parts/export";
import { useLeaving } from "../../parts/leaving";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { RuleField } from "../../parts/rule-field";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Trace } from "../../parts/trace";
import { Sentence, Waiting } from "../../parts/waiting";
import { About, OverlapTable } from "./about";
import { ClauseRows } from "./clause-rows";
import { useNames, useSegments } from "./list";

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
          This segment does not exist any more.{" "}
          <Link to="/segments" className="text-cornflower underline">
            All segments
          </Link>
        </p>
      </Page>
    );
  return (
    <Editor
      key={id}
      name={known?.name ?? params.get("name") ?? ""}
      rule={known?.rule ?? params.get("rule") ?? ""}
      segments={all.data.segments}
      saved={known}
    />
  );
}

function Editor({
  name: firstName,
  rule: firstRule,
  segments,
  saved,
}: {
  name: string;
  rule: string;
  segments: M["Segment"][];
  saved: M["Segment"] | undefined;
}) {
  const { moment } = useTimes();
  const go = useNavigate();
  const client = useQueryClient();
  const names = useNames();
  const [name, setName] = useState(firstName);
  const [label, setLabel] = useState(saved?.label ?? "");
  /** what was read last, which our changes are made to */
  const [base, setBase] = useState(saved ?? { rule: firstRule, name: firstName, label: "", changed_at: 0 });
  const free = useRef(false);
  const [rule, setRule] = useState(firstRule);
  const [settled, setSettled] = useState(firstRule);
  const [lot, setLot] = useState(0);
  const { run, error } = useAction();
  const [off, setOff] = useState<Set<number>>(new Set());
  useEffect(() => {
    const t = setTimeout(() => setSettled(rule), 160);
    return () => clearTimeout(t);
  }, [rule]);
  const counting = (text: string) => ({
    queryKey: keys.ruleCount(text, saved?.name ?? "", lot),
    queryFn: ({ signal }: { signal: AbortSignal }) =>
      post("/segments/count", { rule: text, own_name: saved?.name ?? "" }, signal),
    placeholderData: keepPreviousData,
  });
  const q = useQuery({ ...counting(settled), enabled: settled.trim() !== "" });
  // a server that is away or too busy is no mistake of the rule: it can be saved all the same
  const isOfRule = q.error instanceof Problem && [400, 404, 422].includes(q.error.status);
  const mistake = isOfRule && rule.trim() && settled === rule ? (q.error as Problem) : null;
  // while a mistake is being typed, the last figures stay, dimmed
  const good = useRef<M["RuleCount"] | undefined>(undefined);
  if (q.data && !q.error) good.current = q.data;
  const whole = q.data ?? good.current;
  const tree = whole?.tree as Tree | undefined;
  const parts = tree ? (isGroup(tree) ? partsOf(tree) : [tree]) : [];
  const kept = grouped(
    tree && isGroup(tree) ? tree.clause : "and",
    parts.filter((_, i) => !off.has(i)),
  );
  const looked = kept ? textOf(kept) : "";
  const part = useQuery({ ...counting(looked), enabled: off.size > 0 && looked !== "" });
  const save = async () => {
    await run(async () => {
      const done = saved
        ? await put(`/segments/${saved.id}`, { name, rule, label, changed_at: base.changed_at })
        : await post("/segments", { name, rule, label });
      free.current = true;
      await client.invalidateQueries({ queryKey: keys.segments() });
      if (!saved) go(`/segments/${done.id}`, { replace: true });
    });
  };
  const d = rule.trim() ? (off.size ? (part.data ?? whole) : whole) : undefined;
  const stale = q.isPlaceholderData || q.isFetching || !!mistake;
  const dirty = rule !== base.rule || name !== base.name || label !== base.label;
  const leaving = useLeaving(dirty && rule.trim() !== "", free);
  const newer = saved !== undefined && saved.changed_at !== base.changed_at;
  const adopt = (s: M["Segment"]) => {
    setBase(s);
    setRule(s.rule);
    setName(s.name);
    setLabel(s.label);
  };
  // biome-ignore lint/correctness/useExhaustiveDependencies: another version is there, by us or by somebody else
  useEffect(() => {
    if (saved && newer && (free.current || !dirty)) adopt(saved);
    free.current = false;
  }, [saved?.changed_at]);
  return (
    <Page
      title={saved ? saved.name : "New segment"}
      lead={
        saved?.used_by.length ? `Used in ${saved.used_by.join(", ")}.` : "Write a rule; the count updates as you type."
      }
      acts={
        <>
          {saved && (
            <>
              <Link className="btn" to={`/segments/new?${new URLSearchParams({ name: `${saved.name} copy`, rule })}`}>
                Copy
              </Link>
              <Link className="btn" to={`/subscribers/table?rule=${encodeURIComponent(rule)}`}>
                See in table
              </Link>
            </>
          )}
          {d && (
            <ExportButton
              choice={{ rule, text: "", bands: [], ids: null, without: [] }}
              people={d.count}
              name={name || rule}
            />
          )}
          <May to="write">
            <button
              type="button"
              className="btn btn-main"
              disabled={!name.trim() || !rule.trim() || !!mistake || (saved !== undefined && !dirty)}
              onClick={save}
            >
              Save segment
            </button>
          </May>
        </>
      }
      side={
        d ? (
          <div className={stale ? "dimmed" : ""}>
            <h2>
              {count(d.count)} people, {share(d.count, d.subscribers)}
            </h2>
            <p className="mb-2 text-small text-ink-2">
              {off.size > 0 && <b className="text-wheat">with {off.size} disabled, </b>}of {count(d.subscribers)}, as of{" "}
              {moment(d.as_of)}, counted in {(d.seconds * 1000).toFixed(0)} ms
            </p>
            {d.chance !== null && (
              <p className="mb-2">
                Expected engagement with the next message: <b>{share(d.chance, 1, 0)}</b>
              </p>
            )}
            <BandList bands={d.bands} />
            <div className="mt-5 flex items-baseline justify-between">
              <h2>Random sample</h2>
              <button type="button" className="btn btn-bare py-0" onClick={() => setLot(lot + 1)}>
                New sample
              </button>
            </div>
            <Table label="Random sample" className="text-small">
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
            </Table>
          </div>
        ) : (
          <Starters names={names} add={(c) => setRule(withClause(rule, c))} />
        )
      }
    >
      {leaving}
      {newer && dirty && saved && (
        <p role="alert" className="mb-3 text-wheat">
          Another person has changed this segment; it now reads:{" "}
          <span className="font-mono text-small">{saved.rule}</span>{" "}
          <button type="button" className="btn btn-bare py-0" onClick={() => adopt(saved)}>
            Discard my changes
          </button>{" "}
          <button type="button" className="btn btn-bare py-0" onClick={() => setBase(saved)}>
            Keep mine
          </button>
        </p>
      )}
      <div className="mb-3 flex flex-wrap gap-4">
        <label className="block min-w-[260px] max-w-[420px] flex-1">
          <span className="label">Name</span>
          <input
            className="field"
            value={name}
            onChange={(e) => setName(e.target.value)}
            placeholder="for example: Regulars"
          />
        </label>
        <label className="block w-[200px]">
          <span className="label">Label (optional)</span>
          <input className="field" list="labels of segments" value={label} onChange={(e) => setLabel(e.target.value)} />
          <datalist id="labels of segments">
            {[...new Set(segments.map((s) => s.label).filter(Boolean))].map((l) => (
              <option key={l} value={l} />
            ))}
          </datalist>
        </label>
      </div>
      <span className="label">Rule</span>
      <RuleField
        value={rule}
        set={(r) => {
          setRule(r);
          setOff(new Set());
        }}
        names={names}
        label="Rule"
        rows={Math.min(10, Math.max(2, Math.ceil(rule.length / 85)))}
        invalid={!!mistake}
        placeholder='opened at least 4 in 120 days and permitted for "Season news"'
      />
      {mistake && (
        <div role="alert" className="mt-2">
          {mistake.place !== null && (
            <p className="font-mono text-small whitespace-pre-wrap text-ink-2">
              {rule.slice(0, mistake.place)}
              <span className="bg-poppy-pale text-poppy underline decoration-wavy">
                {rule.slice(mistake.place, mistake.place + 12) || " ← here "}
              </span>
              {rule.slice(mistake.place + 12)}
            </p>
          )}
          <p className="mt-1 text-poppy">{mistake.message}</p>
        </div>
      )}
      <Sentence error={error} />
      {d && tree && (
        <>
          <h2 className="mt-5 mb-1">Condition breakdown</h2>
          <ClauseRows
            tree={tree}
            breakdown={d.breakdown}
            people={d.subscribers}
            off={off}
            setOff={setOff}
            set={(r) => {
              setRule(r);
              setSettled(r);
            }}
            names={names}
            stale={stale || rule !== settled}
          />
          <OverlapTable rule={settled} people={d.count} segments={segments.filter((x) => x.id !== saved?.id)} />
          {saved && <About segment={saved} />}
        </>
      )}
    </Page>
  );
}

function Starters({ names, add }: { names: Names; add: (clause: string) => void }) {
  return (
    <>
      <h2 className="mb-1">Start with a condition</h2>
      <ul>
        {starters(names).map((s) => (
          <li key={s.text} className="border-b border-rule">
            <button
              type="button"
              className="py-1 text-left text-cornflower hover:underline"
              onClick={() => add(s.text)}
            >
              {s.text}
            </button>
            {s.means && <span className="ml-2 text-small text-ink-3">{s.means}</span>}
          </li>
        ))}
      </ul>
    </>
  );
}
