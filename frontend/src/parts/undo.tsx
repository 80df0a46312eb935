import { useQueryClient } from "@tanstack/react-query";
import { type M, post } from "../api/client";
import { peopleChanged } from "../api/keys";
import { count } from "../logic/format";
import { Ask } from "./ask";
import { offerUndo } from "./undo-offer";

/** The way back from an entry of the activity log, for ever; what can't be undone says nothing. */
export function TakeBack({ d }: { d: M["Action"] }) {
  const client = useQueryClient();
  if (d.undone_at) return <span className="text-ink-3">undone</span>;
  if (!d.undoable) return null;
  return (
    <Ask
      trigger={
        <button type="button" className="btn btn-bare py-0">
          Undo…
        </button>
      }
      title="Undo this?"
      words="Undo"
      grave
      act={async () => {
        const done = await post(`/activity/${d.id}/undo`);
        offerUndo({ words: done.sentence, undo: null });
        await peopleChanged(client);
      }}
    >
      “{d.act}
      {d.what ? `: ${d.what}` : ""}” by {d.who}, {count(d.people)} affected. What it added is removed and what it
      changed is restored. Subscribers with later activity are kept.
    </Ask>
  );
}
