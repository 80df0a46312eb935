import { useQuery } from "@tanstack/react-query";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Waiting } from "../../parts/waiting";
import { SubscriberTabs } from "./tabs";

const percent = (share: number) => `${(100 * share).toFixed(1)}%`;

/** The score beside what came: of the last mailings, what was expected of people and what they did. */
export function ScoreCheckPage() {
  const { day } = useTimes();
  const q = useQuery({ queryKey: keys.scoreCheck(), queryFn: () => get("/subscribers/score-check") });
  const found = q.data?.check;
  const model = q.data?.model;
  return (
    <Page
      title="Score check"
      lead="Scores as they stood just before each of the last mailings, beside who then engaged."
      tabs={<SubscriberTabs />}
      side={
        model && (
          <>
            <h2>The model</h2>
            <p className="mt-1 text-ink-2">
              {model.own
                ? `Fitted ${day(model.fitted_at)} on ${count(model.people)} people and ${count(model.messages)} of their messages.`
                : "There is not enough history of your own yet (200 people, 2,000 messages), so usual figures stand in."}
            </p>
            <Table label="Parameters" className="mt-2">
              <tbody>
                {(["alpha", "beta", "gamma", "delta"] as const).map((name) => (
                  <tr key={name}>
                    <td>{name}</td>
                    <td className="n">{model[name].toPrecision(4)}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
            {(model.intercept !== 0 || model.slope !== 1) && (
              <p className="mt-2">
                Your last mailings were off these chances by more than 2 points, so all chances are moved to what those
                showed (log odds × {model.slope.toFixed(2)}, {model.intercept >= 0 ? "+" : "−"}
                {Math.abs(model.intercept).toFixed(2)}).
              </p>
            )}
            <p className="mt-2 text-small text-ink-2">
              Alpha and beta say how engagement differs between people, gamma and delta how quickly people become
              inactive. Fitted again daily, or when 2% of your deliveries are new.
            </p>
          </>
        )
      }
    >
      {!q.data ? (
        <Waiting error={q.error} what="the score check" />
      ) : !found ? (
        <Quiet>The score has not been checked yet. The worker does so after the first mailing.</Quiet>
      ) : found.auc === null ? (
        <Quiet>Nothing to check yet. A mailing to 30 people or more must have settled first.</Quiet>
      ) : (
        <Found found={found} checked={day(found.checked_at)} />
      )}
    </Page>
  );
}

function Found({ found, checked }: { found: M["ScoreCheck"]; checked: string }) {
  const worse = (found.auc_recency ?? 0) > (found.auc ?? 0);
  return (
    <>
      <p className="text-ink-2">
        {count(found.people)} messages of {count(found.mailings)} mailings, checked {checked}. When expected and
        observed agree, every point lies on the line.
      </p>
      {worse && (
        <p role="status" className="mt-2 text-poppy">
          Recency alone ranks your subscribers better than the score does. Until that changes, sort by last engagement.
        </p>
      )}
      <div className="mt-4 grid grid-cols-1 gap-8 lg:grid-cols-[340px_1fr]">
        <Reliability parts={found.tenths} />
        <div>
          <Table label="How well the score ranks and predicts">
            <tbody>
              <Figure words="Ranks correctly (AUC)" value={found.auc?.toFixed(3)} />
              <Figure words="… by recency alone" value={found.auc_recency?.toFixed(3)} />
              <Figure words="… by “engaged in the last 90 days”" value={found.auc_90_days?.toFixed(3)} />
              <Figure words="Brier score (lower is better)" value={found.brier?.toFixed(4)} />
              <Figure words="Calibration error" value={found.calibration_error?.toFixed(3)} />
            </tbody>
          </Table>
          <p className="mt-2 text-small text-ink-2">
            AUC: of one who engages and one who does not, how often the first had the higher score (0.5 is chance). The
            calibration error is the mean distance between expected and observed over twentieths.
          </p>
        </div>
      </div>
      <h2 className="mt-6 mb-1">By tenths of the score</h2>
      <Table label="Expected and observed engagement by tenths">
        <thead>
          <tr>
            <th scope="col">Tenth</th>
            <th scope="col" className="n">
              Messages
            </th>
            <th scope="col" className="n">
              Expected
            </th>
            <th scope="col" className="n">
              Observed
            </th>
          </tr>
        </thead>
        <tbody>
          {found.tenths.map((t, i) => (
            <tr key={i}>
              <td>{i === 0 ? "lowest" : i === found.tenths.length - 1 ? "highest" : i + 1}</td>
              <td className="n">{count(t.people)}</td>
              <td className="n">{percent(t.expected)}</td>
              <td className="n">{percent(t.observed)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

function Figure({ words, value }: { words: string; value: string | undefined }) {
  return (
    <tr>
      <td>{words}</td>
      <td className="n">{value ?? "–"}</td>
    </tr>
  );
}

const SIZE = 300;
const EDGE = 34;

function Reliability({ parts }: { parts: M["ScorePart"][] }) {
  const top = Math.max(0.2, ...parts.map((p) => Math.max(p.expected, p.observed))) * 1.05;
  const at = (share: number) => (share / top) * (SIZE - EDGE - 8);
  const ticks = [0, 0.25, 0.5, 0.75, 1].filter((t) => t <= top);
  return (
    <svg
      viewBox={`0 0 ${SIZE} ${SIZE}`}
      role="img"
      aria-label="Observed engagement against expected engagement, by tenths; the table below has the figures"
      className="block w-full max-w-[340px] text-small"
    >
      {ticks.map((t) => (
        <g key={t} className="fill-ink-2">
          <line x1={EDGE} x2={SIZE - 8} y1={SIZE - EDGE - at(t)} y2={SIZE - EDGE - at(t)} className="stroke-rule" />
          <text x={EDGE - 6} y={SIZE - EDGE - at(t) + 4} textAnchor="end" fontSize={11}>
            {100 * t}%
          </text>
          <text x={EDGE + at(t)} y={SIZE - EDGE + 15} textAnchor="middle" fontSize={11}>
            {100 * t}%
          </text>
        </g>
      ))}
      <line
        x1={EDGE}
        y1={SIZE - EDGE}
        x2={EDGE + at(top)}
        y2={SIZE - EDGE - at(top)}
        className="stroke-ink-3"
        strokeDasharray="3 3"
      />
      {parts.map((p, i) => (
        <circle
          key={i}
          cx={EDGE + at(p.expected)}
          cy={SIZE - EDGE - at(p.observed)}
          r={4}
          className="fill-cornflower"
        />
      ))}
      <text x={EDGE + (SIZE - EDGE) / 2} y={SIZE - 3} textAnchor="middle" fontSize={11} className="fill-ink-2">
        expected
      </text>
      <text x={EDGE} y={12} fontSize={11} className="fill-ink-2">
        observed
      </text>
    </svg>
  );
}
