import { BAND_CLASS, BAND_MEANS, BANDS } from "../logic/bands";
import { count, share } from "../logic/format";
import { BandLegend } from "./band-legend";
import { Table } from "./table";

export function BandMark({ band, size = 12 }: { band: number; size?: number }) {
  return (
    <span
      aria-hidden
      className={`inline-block shrink-0 rounded-[2px] ${BAND_CLASS[band]}`}
      style={{ width: size, height: size }}
    />
  );
}

export function BandWord({ band }: { band: number }) {
  return (
    <span className="inline-flex items-center gap-1.5" title={BAND_MEANS[band]}>
      <BandMark band={band} /> {BANDS[band]}
    </span>
  );
}

/** One bar divided by band, with its figures in words for those who cannot see it. */
export function BandBar({ bands, height = 12 }: { bands: number[]; height?: number }) {
  const total = bands.reduce((a, b) => a + b, 0);
  const words = bands
    .map((n, i) => (n ? `${BANDS[i]} ${count(n)}` : ""))
    .filter(Boolean)
    .join(", ");
  return (
    <span
      role="img"
      aria-label={words || "no one"}
      title={words}
      className="flex w-full overflow-hidden rounded-[2px] bg-wash"
      style={{ height }}
    >
      {bands.map(
        (n, i) => n > 0 && <span key={BANDS[i]} className={BAND_CLASS[i]} style={{ width: `${(100 * n) / total}%` }} />,
      )}
    </span>
  );
}

/** How many are in each band, and what the bands mean. */
export function BandList({ bands }: { bands: number[] }) {
  const total = bands.reduce((a, b) => a + b, 0);
  return (
    <>
      <Table label="People by band">
        <tbody>
          {bands.map((n, i) => (
            <tr key={BANDS[i]}>
              <td>
                <BandWord band={i} />
              </td>
              <td className="n">{count(n)}</td>
              <td className="n w-16 text-ink-2">{share(n, total)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <BandLegend />
    </>
  );
}
