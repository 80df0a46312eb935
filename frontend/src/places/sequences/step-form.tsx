import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type M, post } from "../../api/client";
import { changedIn } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Form } from "../../parts/form";
import { TextField } from "../../parts/labelled";
import { May } from "../../parts/may";
import { Sentence } from "../../parts/waiting";
import { StandHere } from "./people-at-step";
import type { Keep } from "./steps";
import { WaitFields } from "./wait-fields";
import { KINDS, leads, MAILS, type Step, sentence, titleOf } from "./words";

/** One step: what it does, where it stands, who stands there. */
export function StepForm({
  s,
  step,
  keep,
  move,
  close,
}: {
  s: M["SequenceView"];
  step: Step;
  keep: Keep;
  move: (by: number) => void;
  close: () => void;
}) {
  const client = useQueryClient();
  const [x, setX] = useState(step);
  const { run, error } = useAction();
  const [going, setGoing] = useState("out");
  const steps = s.definition.steps;
  const at = steps.findIndex((y) => y.key === step.key);
  const shown = s.steps[at];
  const figures = shown?.figures;
  const means = KINDS.find((k) => k.kind === step.kind);
  const changed = JSON.stringify(x) !== JSON.stringify(step);
  const set = (values: Partial<Step>) => setX({ ...x, ...values });
  const put = (y: Step) => run(() => keep((steps) => steps.map((z) => (z.key === y.key ? y : z)), "the change"));
  const mail = MAILS.includes(x.kind);
  const above = steps.slice(0, at).filter((y) => y.kind === "message" || y.kind === "consent request");
  const below = steps.slice(at + 1);
  const ended = s.state === "ended";
  const here = figures?.here ?? 0;
  return (
    <>
      <div className="mb-1 flex items-baseline justify-between gap-2">
        <h2>{means?.words}</h2>
        <button type="button" className="text-small text-cornflower hover:underline" onClick={close}>
          Close
        </button>
      </div>
      <p className="mb-3 text-small text-ink-2">{means?.means}</p>
      <May to="write">
        <Form
          className="space-y-3"
          act={() => {
            put(x);
          }}
        >
          {(x.kind === "message" || x.kind === "consent request") && (
            <TextField label="Internal name" value={x.name} set={(text) => set({ name: text })} />
          )}
          {mail && shown?.campaign && x.kind !== "resend" && (
            <Link className="btn w-full" to={`/campaigns/${shown.campaign}/message`}>
              {s.state === "draft" ? "Write the message" : "View or edit the message"}
            </Link>
          )}
          {(x.kind === "resend" || (x.kind === "condition" && x.asks !== "rule")) && (
            <label className="block">
              <span className="label">{x.kind === "resend" ? "Resends" : "About"}</span>
              <select className="field" value={x.of} onChange={(e) => set({ of: Number(e.target.value) })}>
                <option value={0}>choose…</option>
                {above.map((y) => (
                  <option key={y.key} value={y.key}>
                    {titleOf(s.steps, y.key)}
                  </option>
                ))}
              </select>
            </label>
          )}
          {x.kind === "resend" && (
            <>
              <TextField
                label="Another subject"
                value={x.subject}
                set={(text) => set({ subject: text })}
                placeholder="unchanged"
              />
              <TextField
                label="Another preview text"
                value={x.preview}
                set={(text) => set({ preview: text })}
                placeholder="unchanged"
              />
            </>
          )}
          {x.kind === "condition" && (
            <>
              <label className="block">
                <span className="label">Condition: they</span>
                <select className="field" value={x.asks} onChange={(e) => set({ asks: e.target.value })}>
                  <option value="engaged">opened, clicked, replied or booked</option>
                  <option value="clicked">clicked, replied or booked</option>
                  <option value="rule">match a rule</option>
                </select>
              </label>
              {x.asks === "rule" && (
                <TextField
                  label="Rule"
                  value={x.rule}
                  set={(text) => set({ rule: text })}
                  placeholder="band is Strong or Steady"
                />
              )}
              {(["yes", "no"] as const).map((word) => (
                <label key={word} className="flex items-center gap-2">
                  <span className="w-[26px] text-ink-2">{word}</span>
                  <select className="field" value={x[word]} onChange={(e) => set({ [word]: e.target.value })}>
                    {["continue", "follow-up path", "end", ...below.map((y) => String(y.key))].map((to) => (
                      <option key={to} value={to}>
                        {Number(to)
                          ? `at “${sentence(below.find((y) => y.key === Number(to)) as Step, s.steps)}”`
                          : leads(to, s.steps)}
                      </option>
                    ))}
                  </select>
                </label>
              ))}
            </>
          )}
          {["wait", "condition", "resend"].includes(x.kind) && <WaitFields x={x} set={set} />}
          {["label", "list", "field"].includes(x.kind) && (
            <>
              <label className="block">
                <span className="label">{x.kind === "field" ? "Field" : x.kind === "list" ? "List" : "Label"}</span>
                <input
                  className="field"
                  value={x.name}
                  list={`known-${x.kind}`}
                  onChange={(e) => set({ name: e.target.value })}
                />
                <datalist id={`known-${x.kind}`}>
                  {s.choices[`${x.kind}s` as "labels" | "lists" | "fields"].map((n) => (
                    <option key={n} value={n} />
                  ))}
                </datalist>
              </label>
              {x.kind === "field" ? (
                <TextField label="Set to" value={x.value} set={(text) => set({ value: text })} />
              ) : (
                <label className="flex items-center gap-2">
                  <input type="checkbox" checked={x.take} onChange={(e) => set({ take: e.target.checked })} /> remove
                  instead
                </label>
              )}
            </>
          )}
          {x.kind === "consent request" && (
            <fieldset>
              <legend className="label">Asks for consent to</legend>
              {s.choices.purposes.map((p) => (
                <label key={p} className="flex items-center gap-2">
                  <input
                    type="checkbox"
                    checked={x.purposes.includes(p)}
                    onChange={(e) =>
                      set({ purposes: e.target.checked ? [...x.purposes, p] : x.purposes.filter((y) => y !== p) })
                    }
                  />
                  {p}
                </label>
              ))}
            </fieldset>
          )}
          <div className="flex items-center gap-4">
            <label className="flex items-center gap-2">
              <input
                type="checkbox"
                checked={x.path === 2}
                onChange={(e) => set({ path: e.target.checked ? 2 : 1, meets: !e.target.checked })}
              />
              on the follow-up path
            </label>
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={x.off} onChange={(e) => set({ off: e.target.checked })} /> disabled
            </label>
          </div>
          {x.off && s.state !== "draft" && (
            <p className="text-small text-ink-2">
              Disabled: people skip it. Complete it
              {MAILS.includes(x.kind) && x.kind !== "resend" ? ", write its message" : ""}, then enable it.
            </p>
          )}
          {x.path === 1 && steps.some((y) => y.path === 2) && (
            <label className="flex items-center gap-2">
              <input type="checkbox" checked={x.meets} onChange={(e) => set({ meets: e.target.checked })} /> people on
              the follow-up path come here too
            </label>
          )}
          <Sentence error={error} />
          {!ended && (
            <div className="flex flex-wrap gap-2 pt-1">
              <button type="submit" className="btn btn-main" disabled={!changed}>
                Save step
              </button>
              <button
                type="button"
                className="btn px-2"
                aria-label="Move up"
                disabled={at <= 0}
                onClick={() => move(-1)}
              >
                ↑
              </button>
              <button
                type="button"
                className="btn px-2"
                aria-label="Move down"
                disabled={at >= steps.length - 1}
                onClick={() => move(1)}
              >
                ↓
              </button>
              <Ask
                trigger={
                  <button type="button" className="btn btn-grave">
                    Delete…
                  </button>
                }
                title="Delete this step?"
                words="Delete step"
                grave
                act={async () => {
                  await keep(
                    (steps) => steps.filter((y) => y.key !== step.key),
                    "the deletion",
                    here ? { [step.key]: going } : {},
                  );
                  close();
                }}
              >
                {here ? (
                  <label className="block">
                    <span className="mb-1 block">{count(here)} are at this step. Move them to:</span>
                    <select className="field" value={going} onChange={(e) => setGoing(e.target.value)}>
                      <option value="out">remove from the sequence</option>
                      {steps
                        .filter((y) => y.key !== step.key)
                        .map((y) => (
                          <option key={y.key} value={String(y.key)}>
                            to “{sentence(y, s.steps)}”
                          </option>
                        ))}
                    </select>
                  </label>
                ) : (
                  "No one is at this step. Past results stay."
                )}
              </Ask>
            </div>
          )}
        </Form>
      </May>
      {shown?.paused_why && (
        <section className="mt-5 rounded border border-poppy-rule px-3 py-2">
          <p className="text-poppy">Paused: {shown.paused_why}</p>
          <div className="mt-2 flex gap-2">
            <button
              type="button"
              className="btn"
              onClick={() =>
                run(async () => {
                  await post(`/campaigns/${shown.campaign}/resume`);
                  await changedIn(client, "sequences");
                })
              }
            >
              Resume
            </button>
            <Link className="btn" to={`/campaigns/${shown.campaign}/results`}>
              View results
            </Link>
          </div>
        </section>
      )}
      {figures && s.state !== "draft" && <StandHere s={s} step={step} figures={figures} />}
    </>
  );
}
