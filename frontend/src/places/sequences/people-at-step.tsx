import { keepPreviousData, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { ago, count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { useDelayed } from "../../parts/delayed";
import { May } from "../../parts/may";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Sentence } from "../../parts/waiting";
import { MAILS, type Step } from "./words";

const SHOWN = 50,
  FEW = 8; // who can be taken in at a glance

/** The figures of a step and the people who stand there, each to be moved on or taken out. */
export function StandHere({ s, step, figures: f }: { s: M["SequenceView"]; step: Step; figures: M["StepFigures"] }) {
  const { when } = useTimes();
  const client = useQueryClient();
  const { run, error } = useAction();
  const [from, setFrom] = useState(0);
  const [text, setText] = useState("");
  const wanted = useDelayed(text.trim(), 250);
  const q = useQuery({
    queryKey: keys.atStep(s.id, step.key, f.here, from, wanted),
    queryFn: ({ signal }) =>
      get(`/sequences/${s.id}/steps/${step.key}/people?offset=${from}&text=${encodeURIComponent(wanted)}`, signal),
    placeholderData: keepPreviousData,
    enabled: f.here > 0,
  });
  const total = q.data?.total ?? f.here;
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
          <div className="mt-5 mb-1 flex items-baseline justify-between gap-3">
            <h2>{count(f.here)} here</h2>
            <a
              className="text-small text-cornflower underline"
              href={`/api/sequences/${s.id}/steps/${step.key}/people.csv`}
              download
            >
              Download as CSV
            </a>
          </div>
          {f.here > FEW && (
            <input
              className="field mb-1"
              type="search"
              aria-label="Find at this step by name or address"
              placeholder="name or address"
              value={text}
              onChange={(e) => {
                setText(e.target.value);
                setFrom(0);
              }}
            />
          )}
          {wanted !== "" && total === 0 && <p className="text-small text-ink-2">No one here matches “{wanted}”.</p>}
          <ul className="text-small">
            {q.data?.people.map((p) => (
              <li key={p.id} className="border-b border-rule py-1.5">
                <div className="flex items-baseline gap-2">
                  <Link
                    className="min-w-0 flex-1 truncate hover:underline"
                    to={`/subscribers/${p.subscriber}`}
                    title={p.email}
                  >
                    {p.name || p.email}
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
                      title={`Remove ${p.name || p.email} from the sequence?`}
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
                  {p.name && <span className="block truncate">{p.email}</span>}
                  since {ago(p.since, s.now).replace(" ago", "")} ·{" "}
                  {p.goes ? `next step ${when(p.goes, s.now)}` : "sending"}
                </p>
              </li>
            ))}
          </ul>
          {(from > 0 || total > from + SHOWN) && (
            <p className="mt-1.5 flex items-baseline gap-3 text-small text-ink-2">
              <button
                type="button"
                className="text-cornflower hover:underline disabled:text-ink-3"
                disabled={from === 0}
                onClick={() => setFrom(from - SHOWN)}
              >
                before
              </button>
              {count(from + 1)} to {count(Math.min(from + SHOWN, total))} of {count(total)}, next due first
              <button
                type="button"
                className="text-cornflower hover:underline disabled:text-ink-3"
                disabled={total <= from + SHOWN}
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
