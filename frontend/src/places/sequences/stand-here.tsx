import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { ago, count, when } from "../../logic/format";
import { Sentence } from "../../parts/basics";
import { MAILS, type Step } from "./words";

/** The figures of a step and the people who stand there, each to be moved on or taken out. */
export function StandHere({ s, step, figures: f }: { s: M["SequenceView"]; step: Step; figures: M["StepFigures"] }) {
  const client = useQueryClient();
  const [error, setError] = useState<Error | null>(null);
  const q = useQuery({
    queryKey: ["stand", s.id, step.key, f.here],
    queryFn: () => get<M["StandHere"]>(`/sequences/${s.id}/steps/${step.key}/people`),
    enabled: f.here > 0,
  });
  const act = async (stay: number, word: string) => {
    setError(null);
    try {
      await post(`/sequences/${s.id}/stays/${stay}/${word}`);
    } catch (e) {
      setError(e as Error);
    }
    await client.invalidateQueries();
  };
  const mail = MAILS.includes(step.kind);
  const lines: [string, number][] = [
    ...(mail
      ? ([
          ["Sent", f.sent],
          ["Opened, clicked, replied or booked", f.opened],
          ["Clicked, replied or booked", f.clicked],
          ["Put off until a message more is allowed", f.deferred],
          ["Could not be delivered", f.failed],
          ["Passed over", f.passed_over],
        ] as [string, number][])
      : []),
    ["Went on", f.passed],
    ...f.left.map((l) => [`Left here: ${l.why}`, l.people] as [string, number]),
  ];
  return (
    <>
      <h2 className="mt-6 mb-1">People</h2>
      <table className="lined">
        <tbody>
          {lines
            .filter(([, n]) => n)
            .map(([words, n]) => (
              <tr key={words}>
                <td>{words}</td>
                <td className="n">{count(n)}</td>
              </tr>
            ))}
        </tbody>
      </table>
      <Sentence error={error} />
      {f.here > 0 ? (
        <>
          <h2 className="mt-5 mb-1">{count(f.here)} here</h2>
          <table className="lined text-[13px]">
            <tbody>
              {q.data?.people.map((p) => (
                <tr key={p.id}>
                  <td className="max-w-[130px] truncate">
                    <Link className="hover:underline" to={`/subscribers/${p.subscriber}`} title={p.email}>
                      {p.email}
                    </Link>
                    <div className="text-ink-2">
                      {ago(p.since, s.now)} · {p.goes ? when(p.goes, s.now) : "being mailed"}
                    </div>
                  </td>
                  <td className="n whitespace-nowrap">
                    <button
                      type="button"
                      className="text-cornflower hover:underline disabled:text-ink-3"
                      disabled={!p.goes}
                      onClick={() => act(p.id, "move-on")}
                    >
                      move on
                    </button>
                    {" · "}
                    <button
                      type="button"
                      className="text-cornflower hover:underline"
                      onClick={() => act(p.id, "take-out")}
                    >
                      take out
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {f.here > 50 && <p className="mt-1 text-[13px] text-ink-2">The next 50 of {count(f.here)}.</p>}
        </>
      ) : (
        <p className="mt-3 text-[13px] text-ink-2">Nobody stands here now.</p>
      )}
    </>
  );
}
