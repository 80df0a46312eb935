import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { type ReactNode, useState } from "react";
import { get } from "../api/client";

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
    queryKey: ["source", path],
    queryFn: () => get(`${path}/source` as `/tests/${number}/source`), // a delivery's has the same form
    enabled: open,
  });
  const s = q.data;
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>{trigger}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[5vh] left-1/2 z-50 flex max-h-[90vh] w-[min(980px,96vw)] -translate-x-1/2 flex-col rounded border border-rule-strong bg-panel shadow-xl"
        >
          <div className="border-b border-rule px-6 pt-5 pb-3">
            <Dialog.Title className="text-[18px]">{title}</Dialog.Title>
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
                <table className="lined mb-4 text-[13px]">
                  <tbody>
                    {s.headers.map((h, i) => (
                      <tr key={i}>
                        <td className="w-[170px] font-semibold">{h.name}</td>
                        <td className="font-mono text-[12px] [overflow-wrap:anywhere]">{h.value}</td>
                        <td className="w-[38%] text-ink-2">{h.meaning}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
                <h2 className="mb-1">Source</h2>
                <pre className="code max-h-none text-[12px]">{s.raw}</pre>
              </>
            )}
          </div>
          <div className="flex justify-end gap-2 border-t border-rule px-6 py-3">
            <a className="btn" href={`/api${path}.eml`} download>
              Download as .eml
            </a>
            <Dialog.Close className="btn btn-main">Close</Dialog.Close>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
