import { useStatus } from "../api/status";
import { BANDS, bandRules } from "../logic/bands";

/** What each band means, with the thresholds that hold in this workspace. */
export function BandLegend() {
  const status = useStatus();
  if (!status.data) return null;
  const { window_days, strong_from, steady_from, own_history } = status.data;
  const rules = bandRules(window_days, strong_from, steady_from);
  return (
    <details className="mt-3 text-small">
      <summary className="cursor-pointer text-cornflower">What the bands mean</summary>
      <p className="mt-1.5 text-ink-2">
        The score is a chance: of 100 people with a score of 31, 31 engage with the next message.
        {!own_history && " There is not enough history of your own yet, so usual figures stand in."}
      </p>
      <dl className="mt-1.5 grid grid-cols-[auto_1fr] gap-x-3 gap-y-1 text-ink-2">
        {BANDS.map((b, i) => (
          <div key={b} className="contents">
            <dt className="font-semibold text-ink">{b}</dt>
            <dd>{rules[i]}</dd>
          </div>
        ))}
      </dl>
    </details>
  );
}
