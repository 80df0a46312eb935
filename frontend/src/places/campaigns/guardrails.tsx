import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { count, share } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { Table } from "../../parts/table";

const COLOUR = { "within limit": "text-clover", "near limit": "text-wheat", "over limit": "text-poppy" };

export const useGuardrails = (id: number, state: string) =>
  useQuery({
    queryKey: keys.guardrails(id, state),
    queryFn: () => get(`/campaigns/${id}/guardrails`),
  });

/** Why a plan is held: the sentence, the evidence, where it comes from, and the choices. */
export function PausedWhy({ c }: { c: M["Campaign"] }) {
  const client = useQueryClient();
  const q = useGuardrails(c.id, c.state);
  const g = q.data;
  if (c.state !== "paused" || !g?.paused_why) return null;
  return (
    <section className="mb-4 border-y border-rule py-3" aria-label="Why it is paused">
      <p>
        <b className="text-poppy">Paused.</b> {g.paused_why}
      </p>
      {g.evidence.length > 0 && (
        <p className="mt-1 text-small text-ink-2">
          {g.evidence.slice(0, 4).map((e) => (
            <span key={e.kind + e.place + e.name + e.guardrail} className="mr-4">
              {e.guardrail}{" "}
              {e.place === "provider" ? `at ${e.name}` : e.place === "batch" ? `in batch ${e.name}` : "in all"}:{" "}
              {count(e.k)} of {count(e.n)}, test value {e.evidence >= 1000 ? "over 1,000" : e.evidence.toFixed(0)}{" "}
              (pauses at 20)
            </span>
          ))}
        </p>
      )}
      {g.sources.length > 0 && (
        <p className="mt-1 text-small text-ink-2">
          Mostly from{" "}
          {g.sources
            .map(
              (x) =>
                `${x.place === "list" ? `the list ${x.name}` : x.name}: ${count(x.k)} of ${count(x.n)}, others ${count(x.rest_k)} of ${count(x.rest_n)}`,
            )
            .join("; ")}
          .
        </p>
      )}
      <div className="mt-2 flex flex-wrap gap-2">
        <Link className="btn" to={`/campaigns/${c.id}/message`}>
          Edit message…
        </Link>
        {g.providers.map((p) => (
          <Ask
            key={p}
            trigger={
              <button type="button" className="btn">
                Resume without {p}…
              </button>
            }
            title={`Resume without ${p}?`}
            words={`Resume without ${p}`}
            act={async () => {
              await post(`/campaigns/${c.id}/resume-without`, { name: p });
              await changedIn(client, "campaigns");
            }}
          >
            Remaining recipients at {p} are skipped, with the reason; sending to the others resumes.
          </Ask>
        ))}
        <span className="self-center text-small text-ink-2">
          You can also resume or stop the whole campaign above. The decision is logged.
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
          {state === "scheduled" || state === "draft"
            ? "Nothing has been sent yet."
            : "Counted since the campaign was resumed; nothing has been sent since."}
        </p>
      )}
      {shown.length > 0 && (
        <Table label="Guardrails">
          <tbody>
            {shown.map((r) => (
              <tr key={r.place + r.name + r.guardrail}>
                <td>
                  {r.guardrail}
                  {r.name && (
                    <span className="block text-small text-ink-2">
                      {r.place === "batch" ? `batch ${r.name}` : r.name}
                    </span>
                  )}
                </td>
                <td className="n">
                  {share(r.k, r.n, 2)}
                  <span className="block text-small text-ink-2">of {count(r.n)}</span>
                </td>
                <td className={`n font-semibold ${COLOUR[r.state]}`}>
                  {r.state}
                  <span className="block text-small font-normal text-ink-2">
                    limit {Number((100 * r.limit).toFixed(2))}%
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {g.too_small.length > 0 && (
        <p className="mt-1 text-small text-ink-2">
          This campaign is too small to detect{" "}
          {g.too_small.map((s) => `${s.guardrail} (needs ${count(s.enough)} recipients)`).join(", ")}.
        </p>
      )}
    </>
  );
}
