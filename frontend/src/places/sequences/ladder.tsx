import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { get, put } from "../../api/client";
import { count } from "../../logic/format";
import { Page, Sentence, StateTag, Waiting } from "../../parts/basics";
import { useKeys, useMe } from "../../parts/me";
import { Acts } from "./acts";
import { BeginForm } from "./begin";
import { Overview } from "./overview";
import { Rungs } from "./rungs";
import { StepForm } from "./step-form";
import { KINDS, type Ladder, newStep, type Step } from "./words";

export type Going = Record<string, string>;

/** A sequence as a ladder of days, with everyone in the first lane and in the second those whom a question sent there. */
export function LadderPage() {
  const { id } = useParams();
  const client = useQueryClient();
  const go = useNavigate();
  const role = useMe().role;
  const [picked, setPicked] = useState<number | "begin" | null>(null);
  const [before, setBefore] = useState<{ ladder: Ladder; words: string } | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const q = useQuery({
    queryKey: ["sequence", id],
    queryFn: () => get(`/sequences/${Number(id)}`),
    refetchInterval: (x) => (x.state.data?.state === "running" ? 4000 : false),
  });
  const s = q.data;
  const save = async (body: Record<string, unknown>) => {
    setError(null);
    await put(`/sequences/${Number(id)}`, body);
    await client.invalidateQueries({ queryKey: ["sequence", id] });
  };
  /** Keep a changed ladder; the one before can be taken back. */
  const keep = async (steps: Step[], words: string, going: Going = {}) => {
    if (!s) return;
    await save({ ladder: { ...s.ladder, steps }, going });
    setBefore({ ladder: s.ladder, words });
  };
  const attempt = async (steps: Step[], words: string) => {
    try {
      await keep(steps, words);
    } catch (e) {
      setError(e as Error);
    }
  };
  const steps = s?.ladder.steps ?? [];
  const at = steps.findIndex((x) => x.key === picked);
  const open = s !== undefined && s.state !== "ended" && role !== "observer";
  const move = (by: number) => {
    const to = at + by;
    if (!open || at < 0 || to < 0 || to >= steps.length) return;
    const next = steps.filter((x) => x.key !== picked);
    next.splice(to, 0, steps[at] as Step);
    attempt(next, "the move");
  };
  const add = async (kind: string) => {
    if (!s) return;
    const place = at >= 0 ? at + 1 : steps.length;
    const above = steps[at];
    const sends = above?.kind === "question" && [above.yes, above.no].includes("second lane");
    const step = newStep(kind, s.next_key, s.ladder, sends ? 2 : (above?.lane ?? 1), s.state !== "draft");
    try {
      await keep([...steps.slice(0, place), step, ...steps.slice(place)], "the new step");
      setPicked(step.key);
    } catch (e) {
      setError(e as Error);
    }
  };
  const pick = (by: number) => {
    const next = steps[Math.max(0, Math.min(steps.length - 1, at < 0 ? (by > 0 ? 0 : steps.length - 1) : at + by))];
    if (next) setPicked(next.key);
  };
  useKeys([
    { key: "ArrowDown", words: "the next step", act: () => pick(1) },
    { key: "ArrowUp", words: "the step before", act: () => pick(-1) },
    { key: "[", words: "move the step up", act: () => move(-1) },
    { key: "]", words: "move the step down", act: () => move(1) },
    { key: "w", words: "walk through", act: () => go(`/sequences/${id}/walk`) },
    { key: "Escape", words: "no step", act: () => setPicked(null) },
  ]);
  if (!s)
    return (
      <Page title="Sequence">
        <Waiting error={q.error} what="the sequence" />
      </Page>
    );
  const step = steps[at];
  const running = s.state === "running" || s.state === "paused";
  return (
    <Page
      title={s.name}
      tag={<StateTag state={s.state} words={running ? `${s.state} · ${count(s.inside)} inside` : s.state} />}
      lead={
        <>
          {s.begins}{" "}
          {open && (
            <button type="button" className="text-cornflower hover:underline" onClick={() => setPicked("begin")}>
              Change…
            </button>
          )}
        </>
      }
      acts={<Acts s={s} />}
      side={
        picked === "begin" ? (
          <BeginForm s={s} save={save} close={() => setPicked(null)} />
        ) : step ? (
          <StepForm key={step.key} s={s} step={step} keep={keep} move={move} close={() => setPicked(null)} />
        ) : (
          <Overview s={s} pick={(k) => setPicked(k || "begin")} />
        )
      }
    >
      <Sentence error={error} />
      {before && open && (
        <p className="mb-2 text-[13px] text-ink-2">
          Kept.{" "}
          <button
            type="button"
            className="text-cornflower hover:underline"
            onClick={async () => {
              try {
                await save({ ladder: before.ladder });
                setBefore(null);
                setPicked(null);
              } catch (e) {
                setError(e as Error);
              }
            }}
          >
            Take back {before.words}
          </button>
        </p>
      )}
      {s.paused_why && (
        <p role="status" className="mb-3 max-w-[90ch] border-l-2 border-poppy bg-wash px-3 py-2">
          <b>It paused itself.</b> {s.paused_why} Everybody stays at their step; mend that, then go on.
        </p>
      )}
      {s.empty && <p className="mb-3 max-w-[80ch] rounded bg-wash px-3 py-2">{s.empty}</p>}
      <Rungs s={s} picked={picked} pick={setPicked} />
      {open && (
        <div className="mt-3 grid grid-cols-[74px_22px_1fr]">
          <span />
          <span />
          <label className="flex flex-wrap items-center gap-2 pl-2">
            <span className="text-ink-2">{step ? "Add below the chosen step:" : "Add at the end:"}</span>
            <select
              className="field w-[190px]"
              aria-label="Add a step"
              value=""
              onChange={(e) => e.target.value && add(e.target.value)}
            >
              <option value="">a step…</option>
              {KINDS.map((k) => (
                <option key={k.kind} value={k.kind}>
                  {k.words}
                </option>
              ))}
            </select>
            <Link className="ml-auto text-cornflower hover:underline" to={`/sequences/${id}/walk`}>
              Walk through it
            </Link>
          </label>
        </div>
      )}
    </Page>
  );
}
