import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { count, share } from "../../logic/format";
import { Ask } from "../../parts/basics";

const COLOUR = { holds: "text-clover", watch: "text-wheat", hold: "text-poppy" };
const WORDS = { holds: "holds", watch: "watch", hold: "over" };

export const useGuardrails = (id: number, state: string) =>
  useQuery({
    queryKey: ["guardrails", id, state],
    queryFn: () => get(`/campaigns/${id}/guardrails`),
    refetchInterval: 5000,
  });

/** Why a plan is held: the sentence, the evidence, where it comes from, and the choices. */
export function HeldWhy({ c }: { c: M["Campaign"] }) {
  const client = useQueryClient();
  const q = useGuardrails(c.id, c.state);
  const g = q.data;
  if (c.state !== "held" || !g?.held_why) return null;
  return (
    <section className="mb-4 border-y border-rule py-3" aria-label="Why it is held">
      <p>
        <b className="text-poppy">Held.</b> {g.held_why}
      </p>
      {g.evidence.length > 0 && (
        <p className="mt-1 text-[13px] text-ink-2">
          {g.evidence.slice(0, 4).map((e) => (
            <span key={e.kind + e.place + e.name + e.guardrail} className="mr-4">
              {e.guardrail}{" "}
              {e.place === "provider" ? `at ${e.name}` : e.place === "batch" ? `in batch ${e.name}` : "in all"}:{" "}
              {count(e.k)} of {count(e.n)}, evidence {e.evidence >= 1000 ? "over 1,000" : e.evidence.toFixed(0)} (20
              holds)
            </span>
          ))}
        </p>
      )}
      {g.sources.length > 0 && (
        <p className="mt-1 text-[13px] text-ink-2">
          Most of it comes from{" "}
          {g.sources
            .map(
              (x) =>
                `${x.place === "list" ? `the list ${x.name}` : x.name}: ${count(x.k)} of ${count(x.n)}, elsewhere ${count(x.rest_k)} of ${count(x.rest_n)}`,
            )
            .join("; ")}
          .
        </p>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        <Link className="btn" to={`/campaigns/${c.id}/message`}>
          Change the message…
        </Link>
        {g.providers.map((p) => (
          <Ask
            key={p}
            trigger={
              <button type="button" className="btn">
                Go on without {p}…
              </button>
            }
            title={`Go on without ${p}?`}
            words={`Go on without ${p}`}
            act={async () => {
              await post(`/campaigns/${c.id}/go-on-without`, { name: p });
              await client.invalidateQueries();
            }}
          >
            Everybody at {p} who still waits is passed over, with the reason; the others go on.
          </Ask>
        ))}
        <span className="self-center text-[13px] text-ink-2">
          Or go on with all, or stop for good, above. Whoever decides stands in the activity log.
        </span>
      </div>
    </section>
  );
}

/** The guardrails as they stand, and those of which this size can show nothing. */
export function GuardrailList({ id, state }: { id: number; state: string }) {
  const g = useGuardrails(id, state).data;
  if (!g) return null;
  const shown = g.guardrails.filter((r) => r.kind === "first");
  return (
    <>
      <h2 className="mt-5 mb-1">Guardrails</h2>
      {!shown.length && (
        <p className="text-ink-2">
          {state === "planned" || state === "draft"
            ? "Nothing has gone out yet."
            : "Counted anew since the plan was resumed; nothing has gone out since."}
        </p>
      )}
      {shown.length > 0 && (
        <table className="lined">
          <tbody>
            {shown.map((r) => (
              <tr key={r.place + r.name + r.guardrail}>
                <td>
                  {r.guardrail}
                  {r.name && (
                    <span className="block text-[13px] text-ink-2">
                      {r.place === "batch" ? `batch ${r.name}` : r.name}
                    </span>
                  )}
                </td>
                <td className="n">
                  {share(r.k, r.n, 2)}
                  <span className="block text-[13px] text-ink-2">of {count(r.n)}</span>
                </td>
                <td className={`n font-semibold ${COLOUR[r.state]}`}>
                  {WORDS[r.state]}
                  <span className="block text-[13px] font-normal text-ink-2">
                    limit {Number((100 * r.limit).toFixed(2))}%
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {g.silent.length > 0 && (
        <p className="mt-1 text-[13px] text-ink-2">
          At this size nothing could be shown of{" "}
          {g.silent.map((s) => `${s.guardrail} (${count(s.enough)} people would be enough)`).join(", ")}.
        </p>
      )}
    </>
  );
}
