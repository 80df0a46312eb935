import type { M } from "../../api/client";
import { count, people, points, share } from "../../logic/format";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { titleOf } from "./words";

/** The right side while no step is chosen: what is missing, who leaves, what repeats add. */
export function Overview({ s, pick }: { s: M["SequenceView"]; pick: (key: number) => void }) {
  const { moment } = useTimes();
  const leave = s.definition.leave;
  const reasons = [
    leave.engaged && "they engage",
    leave.confirmed && "they confirm",
    leave.booked && "they book",
    leave.rule && leave.rule,
    "they unsubscribe",
    "their address bounces",
    "they are suppressed",
  ].filter(Boolean);
  const repeated = new Set(s.definition.steps.filter((x) => x.kind === "resend").map((x) => x.of));
  return (
    <>
      {(s.state === "draft" || s.missing.length > 0) && (
        <section className="mb-6">
          <h2 className="mb-1">
            {!s.missing.length
              ? "Ready to start"
              : s.state === "draft"
                ? "To do before the start"
                : "To do before disabled steps can be enabled"}
          </h2>
          {s.missing.length === 0 && <p className="text-ink-2">Nothing is missing. Simulate it once, then start it.</p>}
          <ul>
            {s.missing.map((m) => (
              <li key={`${m.step} ${m.sentence}`} className="border-b border-rule py-1.5">
                <button type="button" className="text-left hover:underline" onClick={() => pick(m.step)}>
                  {m.sentence}
                </button>
              </li>
            ))}
          </ul>
        </section>
      )}
      <h2 className="mb-1">Exit when</h2>
      <p className="mb-6 text-small text-ink-2">{reasons.join(" · ")}</p>
      {s.state !== "draft" && (
        <>
          <h2 className="mb-1">Status</h2>
          <Table label="Status" className="mb-6">
            <tbody>
              <Row words="Queued" n={s.queued} />
              <Row words="Active" n={s.active} />
              <Row words="Completed" n={s.finished} />
              {s.left.map((l) => (
                <Row key={l.why} words={`Exited: ${l.why}`} n={l.people} />
              ))}
            </tbody>
          </Table>
          {s.queued > 0 && s.portions.length > 0 && (
            <p className="-mt-4 mb-6 text-small text-ink-2">The queue starts {inPortions(s.portions)}.</p>
          )}
        </>
      )}
      {s.added.length > 0 && (
        <>
          <h2 className="mb-1">Resend uplift</h2>
          <Table label="Messages">
            <thead>
              <tr>
                <th scope="col">Message</th>
                <th scope="col" className="n">
                  Received
                </th>
                <th scope="col" className="n">
                  First send
                </th>
                <th scope="col" className="n">
                  Resend
                </th>
                <th scope="col" className="n">
                  Total
                </th>
              </tr>
            </thead>
            <tbody>
              {s.added.map((a) => (
                <tr key={a.step}>
                  <td>{titleOf(s.steps, a.step)}</td>
                  <td className="n">{count(a.sent)}</td>
                  <td className="n">{share(a.first, a.sent, 0)}</td>
                  <td className="n">{repeated.has(a.step) ? `+${share(a.again, a.sent, 0)}` : "–"}</td>
                  <td className="n font-semibold">{share(a.together, a.sent, 0)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
          <p className="mt-1.5 mb-6 text-small text-ink-2">
            People who opened, clicked, replied or booked, of those who received it.{" "}
            {s.compared
              ? `Compared with ${people(s.compared.holdout)} in the holdout group: ${points(s.compared.points)}, between ${points(s.compared.low)} and ${points(s.compared.high)}.`
              : s.definition.holdout
                ? "No one has been in the holdout group yet."
                : "There is no holdout group, so some of these would have engaged anyway."}
          </p>
        </>
      )}
      {s.state !== "draft" && (
        <>
          <h2 className="mb-1">Campaigns at the same time</h2>
          <p className="mb-6 text-small text-ink-2">
            Campaigns exclude {count(s.active)} active {s.active === 1 ? "person" : "people"} by default.{" "}
            {s.beside.campaigns > 0 &&
              `${s.beside.campaigns} ${s.beside.campaigns === 1 ? "campaign" : "campaigns"} of this week would have been sent to ${count(s.beside.people)} of them.`}
          </p>
        </>
      )}
      {s.versions.length > 1 && (
        <>
          <h2 className="mb-1">Versions</h2>
          <ul className="text-small text-ink-2">
            {s.versions
              .slice(-5)
              .reverse()
              .map((v) => (
                <li key={v.n}>
                  {v.n === s.version ? <b>Version {v.n}</b> : `Version ${v.n}`}, {moment(v.at)}, {v.who}
                </li>
              ))}
          </ul>
        </>
      )}
    </>
  );
}

/** "300 first, then 1,900 a day", or one number where the days are alike. */
function inPortions([first = 0, then]: number[]): string {
  if (then === undefined) return `together, ${count(first)} today`;
  return first === then ? `${count(then)} a day` : `${count(first)} first, then ${count(then)} a day`;
}

function Row({ words, n }: { words: string; n: number }) {
  return (
    <tr>
      <td>{words}</td>
      <td className="n">{count(n)}</td>
    </tr>
  );
}
