import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { get, type M, put } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { useKeys } from "../../parts/keys";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { StateTag } from "../../parts/state-tag";
import { Sentence, Waiting } from "../../parts/waiting";
import { Acts } from "./actions";
import { BeginForm } from "./entry-form";
import { Overview } from "./overview";
import { StepCards } from "./step-cards";
import { StepForm } from "./step-form";
import { type Definition, KINDS, newStep, type Step } from "./words";

export type Going = Record<string, string>;

/** Keeps what ``change`` makes of the steps as they are then; ``going`` says where the people of deleted ones go. */
export type Keep = (
  change: (steps: Step[], s: M["SequenceView"]) => Step[],
  words: string,
  going?: Going,
) => Promise<void>;

/** A sequence as a definition of days, with everyone in the first path and in the second those whom a question sent there. */
export function StepsPage() {
  const { id } = useParams();
  const client = useQueryClient();
  const go = useNavigate();
  const role = useMe().role;
  const [picked, setPicked] = useState<number | "begin" | null>(null);
  const [before, setBefore] = useState<{ definition: Definition; words: string } | null>(null);
  const { run, error } = useAction();
  const q = useQuery({
    queryKey: keys.sequence(id),
    queryFn: () => get(`/sequences/${Number(id)}`),
  });
  const s = q.data;
  const save = async (body: M["SequenceChange"]) => {
    await put(`/sequences/${Number(id)}`, body);
    await client.invalidateQueries({ queryKey: keys.sequence(id) });
  };
  const underWay = useRef<Promise<unknown>>(Promise.resolve());
  /** Keep a changed definition, made of the one that the change before it left; it can be taken back. */
  const keep: Keep = (change, words, going = {}) => {
    const made = underWay.current.then(async () => {
      const latest = client.getQueryData<M["SequenceView"]>(keys.sequence(id));
      if (!latest) return;
      await save({ definition: { ...latest.definition, steps: change(latest.definition.steps, latest) }, going });
      setBefore({ definition: latest.definition, words });
    });
    underWay.current = made.catch(() => undefined); // what is refused is said where it was asked for
    return made;
  };
  const steps = s?.definition.steps ?? [];
  const at = steps.findIndex((x) => x.key === picked);
  const open = s !== undefined && s.state !== "ended" && role !== "observer";
  const move = (by: number) => {
    if (!open || at < 0 || at + by < 0 || at + by >= steps.length) return;
    run(() =>
      keep((steps) => {
        const from = steps.findIndex((x) => x.key === picked);
        const to = from + by;
        if (from < 0 || to < 0 || to >= steps.length) return steps;
        const next = steps.filter((x) => x.key !== picked);
        next.splice(to, 0, steps[from] as Step);
        return next;
      }, "the move"),
    );
  };
  const add = (kind: string) =>
    run(async () => {
      let made: number | null = null;
      await keep((steps, s) => {
        const at = steps.findIndex((x) => x.key === picked);
        const place = at >= 0 ? at + 1 : steps.length;
        const above = steps[at];
        const sends = above?.kind === "condition" && [above.yes, above.no].includes("follow-up path");
        const step = newStep(kind, s.next_key, s.definition, sends ? 2 : (above?.path ?? 1), s.state !== "draft");
        made = step.key;
        return [...steps.slice(0, place), step, ...steps.slice(place)];
      }, "the new step");
      setPicked(made);
    });
  const pick = (by: number) => {
    const next = steps[Math.max(0, Math.min(steps.length - 1, at < 0 ? (by > 0 ? 0 : steps.length - 1) : at + by))];
    if (next) setPicked(next.key);
  };
  useKeys([
    { key: "ArrowDown", words: "next step", act: () => pick(1) },
    { key: "ArrowUp", words: "previous step", act: () => pick(-1) },
    { key: "[", words: "move step up", act: () => move(-1) },
    { key: "]", words: "move step down", act: () => move(1) },
    { key: "w", words: "simulate", act: () => go(`/sequences/${id}/simulation`) },
    { key: "Escape", words: "close step", act: () => setPicked(null) },
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
      tag={<StateTag state={s.state} words={running ? `${s.state} · ${count(s.active)} active` : s.state} />}
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
        <p className="mb-2 text-small text-ink-2">
          Saved.{" "}
          <button
            type="button"
            className="text-cornflower hover:underline"
            onClick={() =>
              run(async () => {
                await save({ definition: before.definition });
                setBefore(null);
                setPicked(null);
              })
            }
          >
            Undo {before.words}
          </button>
        </p>
      )}
      {s.paused_why && (
        <p role="status" className="mb-3 max-w-[90ch] border-l-2 border-poppy bg-wash px-3 py-2">
          <b>Paused automatically.</b> {s.paused_why} Everyone stays at their step. Fix this, then resume.
        </p>
      )}
      {s.empty && <p className="mb-3 max-w-[80ch] rounded bg-wash px-3 py-2">{s.empty}</p>}
      <StepCards s={s} picked={picked} pick={setPicked} />
      {open && (
        <div className="mt-3 grid grid-cols-[74px_22px_1fr]">
          <span />
          <span />
          <label className="flex flex-wrap items-center gap-2 pl-2">
            <span className="text-ink-2">{step ? "Add after the selected step:" : "Add at the end:"}</span>
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
            <Link className="ml-auto text-cornflower hover:underline" to={`/sequences/${id}/simulation`}>
              Simulate
            </Link>
          </label>
        </div>
      )}
    </Page>
  );
}
