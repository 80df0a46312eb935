import { useState } from "react";
import { useSearchParams } from "react-router";
import { type M, post } from "../../api/client";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Page } from "../../parts/page";
import { Sentence } from "../../parts/waiting";
import type { Chosen } from "./import-chosen";
import { ImportColumns } from "./import-columns";
import { ChooseFile } from "./import-file";
import { ImportHistory, Work } from "./import-job";
import { ImportOptions } from "./import-options";
import { SubscriberTabs } from "./tabs";

const begun = (upload: M["Upload"], suppressed: boolean): Chosen => ({
  targets: upload.targets,
  list: "",
  source: "",
  wording: "",
  suppressed: suppressed ? "unsubscribed from all" : "",
  check: !suppressed,
  dates: {},
  values: {},
  consent: {},
});

/** A file with what was chosen for it; kept in this tab, so that a reload loses nothing. */
interface Draft {
  upload: M["Upload"];
  chosen: Chosen;
}
const place = (token: string) => `import ${token}`;
const kept = (token: string): Draft | null => JSON.parse(sessionStorage.getItem(place(token)) ?? "null");

export function BringIn() {
  const [params, setParams] = useSearchParams();
  const suppress = params.has("suppress");
  const token = params.get("file") ?? "";
  const [draft, setDraft] = useState<Draft | null>(() => (token ? kept(token) : null));
  const action = useAction();
  const go = (next: Record<string, string>) => setParams(suppress ? { ...next, suppress: "" } : next);
  const keep = (d: Draft) => {
    sessionStorage.setItem(place(d.upload.upload), JSON.stringify(d));
    setDraft(d);
  };
  const begin = (file: File) =>
    action.run(async () => {
      const form = new FormData();
      form.append("file", file);
      form.append("kind", "");
      const upload = await post("/imports/upload", form);
      keep({ upload, chosen: begun(upload, suppress) });
      go({ file: upload.upload });
    });
  /** The same file read anew, after its encoding or the meaning of a column was changed. */
  const again = ({ upload, chosen }: Draft, encoding: string, targets: string[]) => {
    keep({ upload, chosen: { ...chosen, targets } });
    return action.run(async () => {
      const other = encoding !== upload.encoding;
      const corrections = Object.fromEntries(upload.header.map((h, i) => [h.trim(), targets[i] ?? ""]));
      const next = await post("/imports/preview", {
        upload: upload.upload,
        encoding,
        corrections: other ? {} : corrections,
      });
      keep({ upload: next, chosen: { ...chosen, targets: other ? next.targets : targets } });
    });
  };
  const run = ({ upload, chosen }: Draft, dry: boolean) =>
    action.run(async () => {
      const subscribers = upload.kind === "subscribers";
      const dates = Object.fromEntries(
        Object.entries(upload.dates)
          .map(([h, fits]) => [h, chosen.dates[h] ?? fits[0] ?? ""] as const)
          .filter(([, style]) => style && style !== "year first"),
      );
      const done = await post("/imports", {
        upload: upload.upload,
        kind: upload.kind,
        corrections: subscribers
          ? Object.fromEntries(upload.header.map((h, i) => [h.trim(), chosen.targets[i] ?? ""]))
          : {},
        list_name: chosen.list,
        source: chosen.source,
        wording: chosen.wording,
        consent: chosen.consent,
        values: chosen.values,
        suppressed: chosen.suppressed,
        check: chosen.check,
        encoding: upload.encoding,
        dates,
        dry_run: dry,
      });
      go({ file: upload.upload, job: String(done.id), ...(dry ? { preview: "" } : {}) });
    });
  const job = Number(params.get("job") ?? 0);
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="Import subscribers (CSV) or their history (event log, CSV or NDJSON). You see all errors before anything is saved."
      side={<ImportHistory />}
    >
      {!token || !draft ? (
        <ChooseFile begin={begin} busy={action.busy} error={action.error} suppress={suppress} />
      ) : job ? (
        <Work
          upload={draft.upload}
          chosen={draft.chosen}
          job={job}
          dry={params.has("preview")}
          run={() => run(draft, false)}
          again={() => go({ file: token })}
          restart={() => {
            sessionStorage.removeItem(place(token));
            setDraft(null);
            setParams({});
          }}
          error={action.error}
        />
      ) : (
        <Match draft={draft} set={keep} again={again} run={run} restart={() => setParams({})} error={action.error} />
      )}
    </Page>
  );
}

/** What each column is, and what holds for the whole file. */
function Match({
  draft,
  set,
  again,
  run,
  restart,
  error,
}: {
  draft: Draft;
  set: (d: Draft) => void;
  again: (d: Draft, encoding: string, targets: string[]) => void;
  run: (d: Draft, dry: boolean) => void;
  restart: () => void;
  error: Error | null;
}) {
  const { upload, chosen } = draft;
  const subscribers = upload.kind === "subscribers";
  const addressed = !subscribers || chosen.targets.filter((t) => t === "email").length === 1;
  return (
    <>
      <div className="mb-3 flex items-end justify-between gap-4">
        <div>
          <h2>{upload.name}</h2>
          <p className="text-ink-2">
            {subscribers ? "Subscribers" : "Event log"} · {count(Math.ceil(upload.bytes / 1024))} kB ·{" "}
            {upload.header.length} columns
            {subscribers && (
              <>
                , separated by {upload.separator} · encoding{" "}
                <select
                  className="field inline-block w-auto py-0 text-small"
                  aria-label="Encoding"
                  value={upload.encoding}
                  onChange={(e) => again(draft, e.target.value, chosen.targets)}
                >
                  {["utf-8", "windows-1252", "utf-16"].map((e) => (
                    <option key={e}>{e}</option>
                  ))}
                </select>
                {upload.remembered && " · columns mapped as last time"}
              </>
            )}
          </p>
        </div>
        <div className="flex gap-2">
          <button type="button" className="btn" onClick={restart}>
            Another file
          </button>
          <button type="button" className="btn btn-main" disabled={!addressed} onClick={() => run(draft, true)}>
            Preview import
          </button>
        </div>
      </div>
      {!addressed && (
        <p role="alert" className="mb-2 text-poppy">
          Choose the one column that has the addresses, and set it to <b>email</b>.
        </p>
      )}
      <ImportColumns
        upload={upload}
        targets={chosen.targets}
        map={(targets) => again(draft, upload.encoding, targets)}
      />
      {subscribers && (
        <ImportOptions
          upload={upload}
          chosen={chosen}
          set={(values) => set({ upload, chosen: { ...chosen, ...values } })}
        />
      )}
      <Sentence error={error} />
    </>
  );
}
