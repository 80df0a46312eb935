import type { M } from "../../api/client";
import { count } from "../../logic/format";
import { useTimes } from "../../parts/times";
import { dayWords, leads, MAILS, type Shown, type Step, sentence, sentWords, waiting } from "./words";

/** Two paths side by side; on a phone the second is set in below the first. */
const TWO = "grid-cols-[74px_22px_1fr_1fr] max-phone:grid-cols-[52px_20px_minmax(0,1fr)]";

/** The definition: days on the left, everyone in the first path, the follow-up path beside it. */
export function StepCards({
  s,
  picked,
  pick,
}: {
  s: M["SequenceView"];
  picked: number | "begin" | null;
  pick: (key: number | null) => void;
}) {
  const steps = s.definition.steps;
  const two = steps.some((x) => x.path === 2);
  let shownDay = "";
  return (
    <section aria-label="Steps">
      <div className={`grid ${two ? TWO : "grid-cols-[74px_22px_1fr]"} pb-1.5 text-small text-ink-2 max-phone:hidden`}>
        <span />
        <span />
        <span className="pl-2">Everyone</span>
        {two && <span className="pl-3">Follow-up path</span>}
      </div>
      {steps.map((x, i) => {
        const shown = s.steps[i] as Shown;
        const words = dayWords(shown.day);
        const first = words !== shownDay;
        shownDay = words;
        return (
          <div
            key={x.key}
            className={`grid ${two ? TWO : "grid-cols-[74px_22px_minmax(0,620px)] max-phone:grid-cols-[52px_20px_1fr]"}`}
          >
            <div className="pt-2.5 text-right">
              {first && (words ? <b>{words}</b> : <span className="text-small text-poppy">unreachable</span>)}
              {i === 0 && <div className="text-small leading-4 text-ink-2">on entry</div>}
            </div>
            <div className="relative" aria-hidden>
              <span className={`absolute left-1/2 w-px bg-rule-strong ${i === 0 ? "top-3" : "top-0"} bottom-0`} />
              {first && (
                <span className="absolute top-[14px] left-1/2 h-[11px] w-[11px] -translate-x-1/2 rounded-full border-2 border-ink-2 bg-paper" />
              )}
            </div>
            {x.path === 2 && <span aria-hidden className="max-phone:hidden" />}
            <div className={`min-w-0 py-1 ${x.path === 2 ? "pl-3 max-phone:pl-8" : "pl-2"}`}>
              <StepCard
                x={x}
                shown={shown}
                s={s}
                on={picked === x.key}
                pick={() => pick(picked === x.key ? null : x.key)}
              />
            </div>
            {two && x.path === 1 && (
              <span className="self-center pl-3 text-small text-ink-2 max-phone:col-start-3 max-phone:pl-5">
                {aside(x, s)}
              </span>
            )}
          </div>
        );
      })}
      {steps.length === 0 && <p className="py-4 text-ink-2">No steps yet. Add the first message.</p>}
    </section>
  );
}

/** What stands beside a step of the first path: where a question's no leads, and where the paths meet. */
function aside(x: Step, s: M["SequenceView"]): string {
  if (x.kind === "condition") return `no: ${leads(x.no, s.steps)} →`;
  const i = s.definition.steps.findIndex((y) => y.key === x.key);
  return x.meets && s.definition.steps[i - 1]?.path === 2 ? "← paths join" : "";
}

function StepCard({
  x,
  shown,
  s,
  on,
  pick,
}: {
  x: Step;
  shown: Shown;
  s: M["SequenceView"];
  on: boolean;
  pick: () => void;
}) {
  const { when } = useTimes();
  const f = shown.figures;
  const card = MAILS.includes(x.kind);
  const act = ["label", "list", "field", "suppress", "end"].includes(x.kind);
  const lacks = s.missing.filter((m) => m.step === x.key);
  const look = card
    ? `border bg-panel ${x.kind === "resend" ? "border-dashed" : ""} ${on ? "border-cornflower" : "border-rule-strong"}`
    : act
      ? `border bg-clover-pale ${on ? "border-cornflower" : "border-transparent"}`
      : `border ${on ? "border-cornflower bg-panel" : "border-transparent"} hover:bg-wash`;
  return (
    <button
      type="button"
      aria-pressed={on}
      onClick={pick}
      className={`block w-full rounded px-3 text-left ${card ? "py-2" : "py-1.5"} ${look} ${on ? "shadow-[inset_0_0_0_1px_var(--color-cornflower)]" : ""} ${x.off ? "dimmed" : ""}`}
    >
      <span className="flex items-baseline justify-between gap-3">
        <span className={card ? "min-w-0 truncate font-semibold max-phone:whitespace-normal" : "min-w-0"}>
          {sentence(x, s.steps)}
          {x.off && <span className="ml-2 font-normal text-ink-2">disabled</span>}
        </span>
        <span className="shrink-0">
          {f.here > 0 ? (
            <b>{count(f.here)} here</b>
          ) : f.passed > 0 ? (
            <span className="text-small text-ink-2">{count(f.passed)} completed</span>
          ) : null}
        </span>
      </span>
      {card && (
        <span className="mt-0.5 flex justify-between gap-3 text-small text-ink-2">
          <span className="min-w-0 truncate max-phone:whitespace-normal">
            {sentWords(f) || (x.kind === "resend" ? repeatWords(x) : shown.subject || "no subject yet")}
          </span>
          <span className="shrink-0">
            {x.kind === "resend"
              ? x.subject
                ? "new subject"
                : "same subject"
              : f.next_at && f.here
                ? `next ${when(f.next_at, s.now)}`
                : ""}
          </span>
        </span>
      )}
      {!card && !act && f.next_at && f.here > 0 && (
        <span className="block text-small text-ink-2">next {when(f.next_at, s.now)}</span>
      )}
      {shown.paused_why && <span className="mt-0.5 block text-small text-poppy">Paused: {shown.paused_why}</span>}
      {lacks.map((m) => (
        <span key={m.sentence} className="mt-0.5 block text-small text-poppy">
          {m.sentence}
        </span>
      ))}
    </button>
  );
}

function repeatWords(x: Step): string {
  const after = waiting(x);
  return after ? `after ${after}, if ignored` : "if ignored";
}
