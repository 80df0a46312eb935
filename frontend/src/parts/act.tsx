import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { get, type M, post } from "../api/client";
import { count } from "../logic/format";
import { Ask } from "./basics";
import { offerUndo } from "./me";

export type Choice = M["ChoiceIn"];

const ACTS: Record<
  string,
  { title: string; field: string; words: (n: string) => string; done: string; grave?: boolean }
> = {
  label: { title: "Put a label on them", field: "Label", words: (n) => `Label ${n}`, done: "got the label" },
  unlabel: { title: "Take a label off them", field: "Label", words: (n) => `Take it off ${n}`, done: "lost the label" },
  list: { title: "Add them to a list", field: "List", words: (n) => `Add ${n}`, done: "were added to the list" },
  "let go": {
    title: "Let them go?",
    field: "Why, for the record",
    words: (n) => `Let ${n} go`,
    done: "were let go",
    grave: true,
  },
  check: { title: "Check their addresses", field: "", words: (n) => `Check ${n}`, done: "addresses were checked" },
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
  const how = ACTS[act] as (typeof ACTS)[string];
  const preview = useQuery({
    queryKey: ["act", act, argument, choice],
    queryFn: ({ signal }) => post("/acts/preview", { act, argument, choice }, signal),
    enabled: open,
    placeholderData: (p) => p,
  });
  const refresh = () => client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "me" });
  const run = async () => {
    const acted = await post("/acts", { act, argument, choice });
    let { deed, people } = acted;
    if (acted.job) {
      const outcome = await finished(acted.job);
      deed = outcome.deed ?? 0;
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
              await post(`/activity/${deed}/undo`);
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
            placeholder={act === "let go" ? "for example: no answer in a year" : ""}
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
      <p role="status">{preview.error ? preview.error.message : (preview.data?.sentence ?? "Counting…")}</p>
    </Ask>
  );
}

/** Waits for a job; what came of it, or the sentence why it failed. */
export async function finished(id: number): Promise<M["Outcome"]> {
  for (;;) {
    const job = await get(`/jobs/${id}`);
    if (job.state === "failed") throw new Error(job.outcome?.error || "It did not work.");
    if (job.state === "finished" && job.outcome) return job.outcome;
    await new Promise((r) => setTimeout(r, 350));
  }
}
