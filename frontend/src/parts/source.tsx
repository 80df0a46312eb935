import { useQuery } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { get } from "../api/client";
import { keys } from "../api/keys";
import { Close, Dialog } from "./dialog";
import { Table } from "./table";

/** The raw source of a message with its headers explained; ``path`` is its address in the API without an ending. */
export function SourceDialog({
  path,
  title,
  trigger,
}: {
  path: `/tests/${number}` | `/deliveries/${number}`;
  title: string;
  trigger: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const q = useQuery({
    queryKey: keys.source(path),
    queryFn: () => get(`${path}/source` as `/tests/${number}/source`), // a delivery's has the same form
    enabled: open,
  });
  const s = q.data;
  return (
    <Dialog
      open={open}
      change={setOpen}
      trigger={trigger}
      title={title}
      titleClass="px-6 pt-5 text-[18px]"
      size="large"
    >
      <div className="border-b border-rule px-6 pb-3">
        <p className="mt-1 text-ink-2">
          {!s
            ? q.error
              ? q.error.message
              : "Loading…"
            : s.is_made_anew
              ? "Rebuilt from the version sent, the subscriber's current data and the send time, signed with the current key."
              : "Exactly as it was sent to the relay."}
        </p>
      </div>
      <div className="min-h-0 flex-1 overflow-auto px-6 py-4">
        {s && (
          <>
            <Table label="Headers" className="mb-4 text-small">
              <tbody>
                {s.headers.map((h, i) => (
                  <tr key={i}>
                    <td className="w-[170px] font-semibold">{h.name}</td>
                    <td className="font-mono text-tiny [overflow-wrap:anywhere]">{h.value}</td>
                    <td className="w-[38%] text-ink-2">{h.meaning}</td>
                  </tr>
                ))}
              </tbody>
            </Table>
            <h2 className="mb-1">Source</h2>
            <pre className="code max-h-none text-tiny">{s.raw}</pre>
          </>
        )}
      </div>
      <div className="flex justify-end gap-2 border-t border-rule px-6 py-3">
        <a className="btn" href={`/api${path}.eml`} download>
          Download as .eml
        </a>
        <Close main>Close</Close>
      </div>
    </Dialog>
  );
}
