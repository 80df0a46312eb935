import { useState } from "react";
import { pastedFile } from "../../logic/pasted";
import { Form } from "../../parts/form";
import { Sentence } from "../../parts/waiting";

/** Choose a file, drop it, or paste addresses. */
export function ChooseFile({
  begin,
  busy,
  error,
  suppress,
}: {
  begin: (file: File) => void;
  busy: boolean;
  error: Error | null;
  suppress: boolean;
}) {
  const [text, setText] = useState("");
  const pasted = pastedFile(text);
  return (
    <div className="max-w-[720px]">
      {suppress && (
        <p className="mb-3">
          All people in the file, or in the lines you paste, will be <b>suppressed</b>: they get no more mail. You
          choose the reason in the next step.
        </p>
      )}
      {/* biome-ignore lint/a11y/noStaticElementInteractions: dropping is a second way beside the button */}
      <div
        className="rounded border border-dashed border-rule-strong bg-panel px-8 py-9 text-center"
        onDragOver={(e) => e.preventDefault()}
        onDrop={(e) => {
          e.preventDefault();
          const f = e.dataTransfer.files[0];
          if (f) begin(f);
        }}
      >
        <p className="mb-4 text-ink-2">Drop a file here, or</p>
        <label className="btn btn-main cursor-pointer">
          Choose a file…
          <input
            type="file"
            className="sr-only"
            accept=".csv,.tsv,.txt,.ndjson,.json"
            onChange={(e) => {
              const f = e.target.files?.[0];
              if (f) begin(f);
            }}
          />
        </label>
        {busy && (
          <p role="status" className="mt-4 text-ink-2">
            Reading the file…
          </p>
        )}
      </div>
      <Form className="mt-5" act={() => pasted && begin(pasted.file)}>
        <label>
          <span className="label">
            Or paste addresses, one a line; with names as in: Mira Harrow &lt;mira@harrow.example&gt;
          </span>
          <textarea
            className="field h-[110px] font-mono text-small"
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        </label>
        <div className="mt-2 flex items-center gap-3">
          <button type="submit" className="btn" disabled={!pasted || busy}>
            Continue
          </button>
          <span className="text-small text-ink-2" aria-live="polite">
            {text.trim() && (pasted ? `${pasted.rows} found` : "There is no address in this text.")}
          </span>
        </div>
      </Form>
      <Sentence error={error} />
      <p className="mt-5 text-ink-2">
        A subscribers file needs a column with the addresses; an event log needs <b>at, event, email, message</b>.
        Comma, semicolon and tab are detected automatically.
      </p>
    </div>
  );
}
