import type { M } from "../../api/client";
import { Table } from "../../parts/table";

/** The first rows of the file, with what each column is. */
export function ImportColumns({
  upload,
  targets,
  map,
}: {
  upload: M["Upload"];
  targets: string[];
  map: (targets: string[]) => void;
}) {
  return (
    <div className="overflow-auto border-y border-rule bg-panel px-3">
      <Table label="First rows of the file" className="whitespace-nowrap text-small">
        <thead>
          <tr>
            {upload.header.map((h, i) => (
              <th scope="col" key={i}>
                {h}
              </th>
            ))}
          </tr>
          <tr>
            {upload.header.map((h, i) => (
              <th scope="col" key={i}>
                {upload.kind === "subscribers" ? (
                  <Target
                    heading={h.trim()}
                    upload={upload}
                    value={targets[i] ?? ""}
                    choose={(t) => map(targets.map((old, k) => (k === i ? t : old)))}
                  />
                ) : (
                  <span className={targets[i] ? "text-clover" : "text-ink-3"}>{targets[i] || "skipped"}</span>
                )}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {upload.sample.map((r, i) => (
            <tr key={i}>
              {upload.header.map((_, k) => (
                <td key={k} className={`max-w-[220px] truncate ${targets[k] ? "" : "text-ink-3 line-through"}`}>
                  {r[k]}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </Table>
    </div>
  );
}

function Target({
  heading,
  upload,
  value,
  choose,
}: {
  heading: string;
  upload: M["Upload"];
  value: string;
  choose: (target: string) => void;
}) {
  const fields = upload.fields.filter((f) => !upload.known.includes(f));
  const own = [...new Set([value, heading])].filter((k) => k && !upload.known.includes(k) && !fields.includes(k));
  return (
    <select
      className="field min-w-[120px] py-0.5 font-normal"
      aria-label={`Column ${heading} is`}
      value={value}
      onChange={(e) => choose(e.target.value)}
    >
      <option value="">skip</option>
      {upload.known.map((k) => (
        <option key={k}>{k}</option>
      ))}
      {fields.length > 0 && (
        <optgroup label="fields of subscribers">
          {fields.map((f) => (
            <option key={f} value={f}>
              field: {f}
            </option>
          ))}
        </optgroup>
      )}
      {own.map((f) => (
        <option key={f} value={f}>
          new field: {f}
        </option>
      ))}
    </select>
  );
}
