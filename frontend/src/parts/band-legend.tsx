import { useStatus } from "../api/status";
import { BANDS, bandRules } from "../logic/bands";

/** What each band means, with the thresholds that hold in this workspace. */
export function BandLegend() {
  const status = useStatus();
  if (!status.data) return null;
  const rules = bandRules(status.data.window_days);
  return (
    <details className="mt-3 text-small">
      <summary className="cursor-pointer text-cornflower">What the bands mean</summary>
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
