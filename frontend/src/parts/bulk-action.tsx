import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { get, type M, post } from "../api/client";
import { keys, peopleChanged } from "../api/keys";
import { count } from "../logic/format";
import { Ask } from "./ask";
import { offerUndo } from "./undo-offer";

export type Choice = M["ChoiceIn"];

const ACTS: Record<
  string,
  { title: string; field: string; words: (n: string) => string; done: string; grave?: boolean }
> = {
  label: { title: "Add a label", field: "Label", words: (n) => `Label ${n}`, done: "labelled" },
  unlabel: { title: "Remove a label", field: "Label", words: (n) => `Remove from ${n}`, done: "had the label removed" },
  list: { title: "Add to a list", field: "List", words: (n) => `Add ${n}`, done: "added to the list" },
  unlist: { title: "Remove from a list", field: "List", words: (n) => `Remove ${n}`, done: "removed from the list" },
  suppress: {
    title: "Suppress these subscribers?",
    field: "Reason (logged)",
    words: (n) => `Suppress ${n}`,
    done: "suppressed",
    grave: true,
  },
  check: { title: "Check addresses", field: "", words: (n) => `Check ${n}`, done: "addresses checked" },
};

/** One act on many people: its numbers first, then asked once, then undone from the foot line. */
export function ActButton({
  act,
  choice,
  names,
  children,
  after,
  className = "btn",
}: {
  act: keyof typeof ACTS & string;
  choice: Choice;
  names?: string[];
  children: ReactNode;
  after?: () => void;
  className?: string;
}) {
  const client = useQueryClient();
  const [argument, setArgument] = useState("");
  const [open, setOpen] = useState(false);
  const [also, setAlso] = useState<NonNullable<Choice["also"]>>([]);
  const asked = { ...choice, also };
  const how = ACTS[act] as (typeof ACTS)[string];
  const preview = useQuery({
    queryKey: keys.bulkAction(act, argument, asked),
    queryFn: ({ signal }) => post("/actions/preview", { act, argument, choice: asked }, signal),
    enabled: open,
    placeholderData: (p) => p,
  });
  const refresh = () => peopleChanged(client);
  const run = async () => {
    const acted = await post("/actions", { act, argument, choice: asked });
    let { action, people } = acted;
    if (acted.job) {
      const outcome = await finished(acted.job);
      action = outcome.action ?? 0;
      people = outcome.taken;
    }
    await refresh();
    after?.();
    const words = act === "check" ? `${count(people)} ${how.done}.` : `${count(people)} people ${how.done}.`;
    offerUndo({
      words,
      undo:
        act === "check"
          ? null
          : async () => {
              await post(`/activity/${action}/undo`);
              await refresh();
            },
    });
  };
  const n = preview.data?.changes ?? 0;
  return (
    <Ask
      trigger={
        <button type="button" className={how.grave ? `${className} btn-grave` : className}>
          {children}
        </button>
      }
      title={how.title}
      words={preview.data ? how.words(count(n)) : "…"}
      grave={how.grave}
      disabled={!preview.data || !n || (how.field !== "" && !argument.trim())}
      act={run}
      opened={setOpen}
    >
      {how.field && (
        <label className="mb-3 block text-ink">
          <span className="label">{how.field}</span>
          <input
            className="field"
            value={argument}
            list={names ? `names-${act}` : undefined}
            placeholder={act === "suppress" ? "for example: no engagement in a year" : ""}
            onChange={(e) => setArgument(e.target.value)}
          />
          {names && (
            <datalist id={`names-${act}`}>
              {names.map((x) => (
                <option key={x} value={x} />
              ))}
            </datalist>
          )}
        </label>
      )}
      {(preview.data?.spared.length ?? 0) > 0 && (
        <fieldset className="mb-3 border-rule border-y py-2">
          <legend className="label float-left mb-1 w-full">Left out unless ticked</legend>
          {preview.data?.spared.map((s) => (
            <label key={s.group} className="flex items-baseline gap-2 py-0.5 text-ink">
              <input
                type="checkbox"
                checked={also.includes(s.group)}
                onChange={(e) => setAlso(e.target.checked ? [...also, s.group] : also.filter((g) => g !== s.group))}
              />
              <span>
                <b>{count(s.people)}</b> {s.words}
              </span>
            </label>
          ))}
        </fieldset>
      )}
      <p role="status">{preview.error ? preview.error.message : (preview.data?.sentence ?? "Counting…")}</p>
    </Ask>
  );
}

/** Waits for a job; what came of it, or the sentence why it failed. */
export async function finished(id: number): Promise<M["Outcome"]> {
  for (;;) {
    const job = await get(`/jobs/${id}`);
    if (job.state === "failed") throw new Error(job.outcome?.error || "Something went wrong.");
    if (job.state === "finished" && job.outcome) return job.outcome;
    await new Promise((r) => setTimeout(r, 350));
  }
}
