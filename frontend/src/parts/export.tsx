import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get, type M, post } from "../api/client";
import { keys } from "../api/keys";
import { count, duration } from "../logic/format";
import { Ask } from "./ask";
import { finished } from "./bulk-action";

/** People to a file with chosen columns: a job, recorded, and removed after some days. */
export function ExportButton({
  choice,
  people,
  name,
  words = "Export…",
}: {
  choice: M["ChoiceIn"];
  people: number;
  name: string;
  words?: string;
}) {
  const [open, setOpen] = useState(false);
  const q = useQuery({
    queryKey: keys.exportColumns(),
    queryFn: () => get("/exports/columns"),
    enabled: open,
  });
  const [chosen, setChosen] = useState<string[] | null>(null);
  const [form, setForm] = useState<"csv" | "ndjson">("csv");
  const columns = chosen ?? q.data?.usual ?? [];
  const run = async () => {
    const job = await post("/exports", { choice, columns, form, name });
    await finished(job.id);
    const a = document.createElement("a");
    a.href = `/api/exports/${job.id}`;
    a.download = "";
    a.click();
  };
  return (
    <Ask
      trigger={
        <button type="button" className="btn">
          {words}
        </button>
      }
      title={`Export ${count(people)} subscribers`}
      words="Export"
      disabled={!columns.length || !people}
      act={run}
      opened={setOpen}
    >
      <fieldset className="mb-3 grid grid-cols-3 gap-x-4 text-ink">
        <legend className="label">Columns</legend>
        {(q.data?.columns ?? []).map((c) => (
          <label key={c} className="flex items-center gap-1.5 truncate">
            <input
              type="checkbox"
              checked={columns.includes(c)}
              onChange={() => setChosen(columns.includes(c) ? columns.filter((x) => x !== c) : [...columns, c])}
            />
            {c.replace("field:", "").replaceAll("_", " ")}
          </label>
        ))}
      </fieldset>
      <fieldset className="mb-3 flex gap-4 text-ink">
        <legend className="label">Format</legend>
        {(["csv", "ndjson"] as const).map((f) => (
          <label key={f} className="flex items-center gap-1.5">
            <input type="radio" name="form" checked={form === f} onChange={() => setForm(f)} />
            {f === "csv" ? "CSV, safe for spreadsheets" : "NDJSON"}
          </label>
        ))}
      </fieldset>
      Exports are logged. The file is deleted after {duration((q.data?.kept_days ?? 14) * 86400)}.
    </Ask>
  );
}
