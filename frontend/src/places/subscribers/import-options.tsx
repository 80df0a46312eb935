import type { M } from "../../api/client";
import { count } from "../../logic/format";
import { Table } from "../../parts/table";
import type { Chosen } from "./import-chosen";

const REASONS = ["unsubscribed from all", "complaint", "hard bounce", "bad address", "inactive", "other"];
const STATES = ["given", "none", "withdrawn", "pending"] as const;

/** What holds for the whole file: list, consent with its source and wording, dates. */
export function ImportOptions({
  upload,
  chosen,
  set,
}: {
  upload: M["Upload"];
  chosen: Chosen;
  set: (values: Partial<Chosen>) => void;
}) {
  const { list, source, wording, suppressed, check, dates, values, consent } = chosen;
  const spoken = chosen.targets.some((t) => t.startsWith("consent:"));
  const odd = Object.entries(upload.values);
  return (
    <div className="mt-4 grid max-w-[900px] grid-cols-2 gap-x-6 gap-y-4 max-[700px]:grid-cols-1">
      <label>
        <span className="label">Add to list (optional)</span>
        <input className="field" value={list} onChange={(e) => set({ list: e.target.value })} />
      </label>
      <label>
        <span className="label">Import as suppression list, reason</span>
        <select className="field" value={suppressed} onChange={(e) => set({ suppressed: e.target.value })}>
          <option value="">not a suppression list</option>
          {REASONS.map((r) => (
            <option key={r}>{r}</option>
          ))}
        </select>
      </label>
      <fieldset className="col-span-full border-t border-rule pt-3">
        <legend className="sr-only">Consent</legend>
        <h2 className="mb-1">Consent</h2>
        <p className="mb-2 text-small text-ink-2">
          {spoken
            ? "The file has a column of consent. What you choose here holds for purposes that no column speaks of."
            : "No column speaks of consent. Choose what these people agreed to; without it none of them may be mailed."}{" "}
          Consent without a source is imported as “none”, because you could not prove it.
        </p>
        <div className="flex flex-wrap gap-x-6 gap-y-2">
          {upload.purposes.map((p) => (
            <label key={p} className="flex items-center gap-2">
              {p}
              <select
                className="field w-auto py-0.5"
                value={consent[p] ?? ""}
                onChange={(e) => {
                  const { [p]: _, ...others } = consent;
                  set({
                    consent: e.target.value ? { ...others, [p]: e.target.value as (typeof STATES)[number] } : others,
                  });
                }}
              >
                <option value="">not said</option>
                {STATES.map((s) => (
                  <option key={s}>{s}</option>
                ))}
              </select>
            </label>
          ))}
          {!upload.purposes.length && (
            <span className="text-ink-2">There are no purposes yet; add one under Consent.</span>
          )}
        </div>
        <div className="mt-3 grid grid-cols-2 gap-6 max-[700px]:grid-cols-1">
          <label>
            <span className="label">Source: where they agreed</span>
            <input
              className="field"
              placeholder="for example: foyer form, spring 2026"
              value={source}
              onChange={(e) => set({ source: e.target.value })}
            />
          </label>
          <label>
            <span className="label">Wording: what they agreed to (optional)</span>
            <textarea className="field h-[34px]" value={wording} onChange={(e) => set({ wording: e.target.value })} />
          </label>
        </div>
      </fieldset>
      {odd.map(([heading, lines]) => (
        <Table key={heading} label={`Values of ${heading}`}>
          <thead>
            <tr>
              <th scope="col">Values of “{heading}”</th>
              <th scope="col" className="n">
                Rows looked at
              </th>
              <th scope="col">Means</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((v) => (
              <tr key={v.value}>
                <td>{v.value}</td>
                <td className="n">{count(v.count)}</td>
                <td>
                  <select
                    className="field w-[150px] py-0"
                    aria-label={`${v.value} means`}
                    value={values[heading]?.[v.value] ?? v.state}
                    onChange={(e) =>
                      set({ values: { ...values, [heading]: { ...values[heading], [v.value]: e.target.value } } })
                    }
                  >
                    {!v.state && <option value="">not known: row rejected</option>}
                    {STATES.map((s) => (
                      <option key={s}>{s}</option>
                    ))}
                  </select>
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      ))}
      {Object.entries(upload.dates).map(([heading, fits]) => (
        <label key={heading}>
          <span className="label">Date format of “{heading}”</span>
          <select
            className="field"
            value={dates[heading] ?? fits[0] ?? ""}
            onChange={(e) => set({ dates: { ...dates, [heading]: e.target.value } })}
          >
            {!fits.length && <option value="">mixed: only RFC 3339 dates are accepted</option>}
            {Object.entries(upload.styles).map(([style, example]) => (
              <option key={style} value={style}>
                {style}, as in {example}
                {fits.includes(style) ? "" : " (no match)"}
              </option>
            ))}
          </select>
          {fits.length > 1 && (
            <span className="text-small text-wheat">{fits.join(" or ")} both match. Check the sample and choose.</span>
          )}
        </label>
      ))}
      <label className="col-span-full flex items-center gap-2">
        <input type="checkbox" checked={check} onChange={(e) => set({ check: e.target.checked })} />
        Check the addresses of these people after the import
      </label>
    </div>
  );
}
