import { useQueryClient } from "@tanstack/react-query";
import { type M, post } from "../api/client";
import { count } from "../logic/format";
import { Ask } from "./basics";
import { offerUndo } from "./me";

/** The way back from an entry of the activity log, for ever; what can't be taken back says nothing. */
export function TakeBack({ d }: { d: M["Deed"] }) {
  const client = useQueryClient();
  if (d.undone_at) return <span className="text-ink-3">taken back</span>;
  if (!d.undoable) return null;
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          Take back…
        </button>
      }
      title="Take this back?"
      words="Take it back"
      grave
      act={async () => {
        const done = await post(`/activity/${d.id}/undo`);
        offerUndo({ words: done.sentence, undo: null });
        await client.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "me" });
      }}
    >
      “{d.act}
      {d.what ? `: ${d.what}` : ""}” by {d.who}, {count(d.people)} concerned. What it made is taken out again and what
      it changed stands as before; people to whom something has happened since are kept.
    </Ask>
  );
}
