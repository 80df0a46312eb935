import { useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { type M, post } from "../api/client";
import { peopleChanged } from "../api/keys";
import { useAction } from "./action";
import { Sentence } from "./waiting";

/** A button that sends a chosen file somewhere and says, line by line, what came of it. */
type Taken = { "/health/statistics": M["ImportedStatistics"]; "/health/reports": M["ImportedReports"] };

export function TakeFile<P extends keyof Taken>({
  path,
  accept,
  label,
  words,
  said,
  className = "btn",
}: {
  path: P;
  accept: string;
  label: string;
  words: string;
  said: (answer: Taken[P]) => string[];
  className?: string;
}) {
  const client = useQueryClient();
  const file = useRef<HTMLInputElement>(null);
  const [lines, setLines] = useState<string[]>([]);
  const { run, error } = useAction();
  const send = async (chosen: File) => {
    setLines([]);
    await run(async () => {
      const form = new FormData();
      form.append("file", chosen);
      const answer = await post(path as keyof Taken, form);
      setLines(said(answer as Taken[P]));
      await peopleChanged(client);
    });
  };
  return (
    <>
      <input
        ref={file}
        type="file"
        accept={accept}
        className="sr-only"
        tabIndex={-1}
        aria-label={label}
        onChange={(e) => {
          const chosen = e.target.files?.[0];
          if (chosen) send(chosen);
          e.target.value = "";
        }}
      />
      <button type="button" className={className} onClick={() => file.current?.click()}>
        {words}
      </button>
      <Sentence error={error} />
      {lines.length > 0 && (
        <div role="status" className="border-l-2 border-cornflower pl-3 text-small">
          {lines.map((s) => (
            <p key={s}>{s}</p>
          ))}
        </div>
      )}
    </>
  );
}
