import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { ago, count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";
import { MAILS, type Step } from "./words";

const SHOWN = 50;

/** The figures of a step and the people who stand there, each to be moved on or taken out. */
export function StandHere({ s, step, figures: f }: { s: M["SequenceView"]; step: Step; figures: M["StepFigures"] }) {
  const { when } = useTimes();
  const client = useQueryClient();
  const { run, error } = useAction();
  const [from, setFrom] = useState(0);
  const q = useQuery({
    queryKey: keys.atStep(s.id, step.key, f.here, from),
    queryFn: () => get(`/sequences/${s.id}/steps/${step.key}/people?offset=${from}`),
    placeholderData: keepPreviousData,
    enabled: f.here > 0,
  });
  const act = async (stay: number, word: string) => {
    await post(`/sequences/${s.id}/enrolments/${stay}/${word}`);
    await changedIn(client, "sequences");
  };
  const mail = MAILS.includes(step.kind);
  const lines: [string, number][] = [
    ...(mail
      ? ([
          ["Sent", f.sent],
          ["Opened, clicked, replied or booked", f.opened],
          [f.of < f.sent ? `Expected to engage, of ${count(f.of)}` : "Expected to engage", Math.round(f.expected ?? 0)],
          ["Clicked, replied or booked", f.clicked],
          ["Delayed by the frequency limit", f.deferred],
          ["Could not be delivered", f.failed],
          ["Skipped", f.passed_over],
        ] as [string, number][])
      : []),
    ["Continued", f.passed],
    ...f.left.map((l) => [`Exited here: ${l.why}`, l.people] as [string, number]),
  ];
  return (
    <>
      <h2 className="mt-6 mb-1">People</h2>
      <Table label="People at this step">
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
      </Table>
      <Sentence error={error} />
      {f.here > 0 ? (
        <>
          <h2 className="mt-5 mb-1">{count(f.here)} here</h2>
          <ul className="text-small">
            {q.data?.people.map((p) => (
              <li key={p.id} className="border-b border-rule py-1.5">
                <div className="flex items-baseline gap-2">
                  <Link
                    className="min-w-0 flex-1 truncate hover:underline"
                    to={`/subscribers/${p.subscriber}`}
                    title={p.email}
                  >
                    {p.email}
                  </Link>
                  <May to="decide">
                    <button
                      type="button"
                      className="text-cornflower hover:underline disabled:text-ink-3"
                      disabled={!p.goes}
                      onClick={() => run(() => act(p.id, "skip-wait"))}
                    >
                      skip wait
                    </button>
                    <Ask
                      trigger={
                        <button type="button" className="text-cornflower hover:underline">
                          remove
                        </button>
                      }
                      title={`Remove ${p.email} from the sequence?`}
                      words="Remove"
                      grave
                      act={() => act(p.id, "remove")}
                    >
                      They exit at this step and receive nothing more of {s.name}.
                      {s.definition.begin.again_after === null && " People who were in it before do not enter again."}
                    </Ask>
                  </May>
                </div>
                <p className="text-ink-2">
                  since {ago(p.since, s.now).replace(" ago", "")} ·{" "}
                  {p.goes ? `next step ${when(p.goes, s.now)}` : "sending"}
                </p>
              </li>
            ))}
          </ul>
          {(from > 0 || f.here > from + SHOWN) && (
            <p className="mt-1.5 flex items-baseline gap-3 text-small text-ink-2">
              <button
                type="button"
                className="text-cornflower hover:underline disabled:text-ink-3"
                disabled={from === 0}
                onClick={() => setFrom(from - SHOWN)}
              >
                before
              </button>
              {count(from + 1)} to {count(Math.min(from + SHOWN, f.here))} of {count(f.here)}, next due first
              <button
                type="button"
                className="text-cornflower hover:underline disabled:text-ink-3"
                disabled={f.here <= from + SHOWN}
                onClick={() => setFrom(from + SHOWN)}
              >
                more
              </button>
            </p>
          )}
        </>
      ) : (
        <p className="mt-3 text-small text-ink-2">No one is at this step.</p>
      )}
    </>
  );
}
