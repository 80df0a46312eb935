import { useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { May } from "../../parts/may";
import { StateTag } from "../../parts/state-tag";
import { Sentence } from "../../parts/waiting";

/** From nothing to a first campaign, in the order in which one goes; gone when each step is done or skipped. */
export function FirstSteps({ of }: { of: M["FirstStep"][] }) {
  const client = useQueryClient();
  const { run, error } = useAction();
  const open = of.filter((s) => s.state === "open");
  const next = open[0]?.key;
  if (!open.length) return null;
  const skip = (key: string, skipped: boolean) =>
    run(async () => {
      await post("/today/first-steps", { key, skipped });
      await client.invalidateQueries({ queryKey: keys.today() });
    });
  return (
    <section aria-label="First steps" className="mb-5 max-w-[860px]">
      <h2 className="mb-1">First steps</h2>
      <p className="mb-1 text-ink-2">
        {count(of.filter((s) => s.state === "done").length)} of {count(of.length)} are done. Each can be left for later.
      </p>
      <Sentence error={error} />
      <ol className="border-t border-rule">
        {of.map((s) => (
          <li key={s.key} className="flex items-center gap-3 border-b border-rule py-1.5 max-[700px]:flex-wrap">
            <span className="w-[72px] shrink-0">
              <StateTag state={s.state} />
            </span>
            <span className={`w-40 shrink-0 ${s.state === "open" ? "font-semibold" : ""}`}>{s.name}</span>
            <span className="min-w-0 flex-1 text-ink-2">{s.sentence}</span>
            {s.state !== "done" && (
              <May to="decide">
                <button
                  type="button"
                  className="text-ink-2 text-small underline"
                  onClick={() => skip(s.key, s.state === "open")}
                >
                  {s.state === "open" ? "Skip" : "Take up again"}
                  <span className="sr-only"> {s.name}</span>
                </button>
              </May>
            )}
            {s.state === "open" && s.link && (
              <Link className={`btn ${s.key === next ? "btn-main" : ""}`} to={s.link}>
                Set up<span className="sr-only"> {s.name}</span>
              </Link>
            )}
          </li>
        ))}
      </ol>
    </section>
  );
}
