import { useQueryClient } from "@tanstack/react-query";
import { type M, post } from "../../api/client";
import { Ask } from "../../parts/basics";
import { May } from "../../parts/may";
import { useMe } from "../../parts/me";

/** Where the workspace asks for a second pair of eyes: ask somebody, or approve what somebody asked about. */
export function Approval({ c }: { c: M["Campaign"] }) {
  const me = useMe();
  const client = useQueryClient();
  const a = c.approval;
  if (!a.needed) return null;
  if (a.approved_by) return <span className="self-center text-clover">approved by {a.approved_by}</span>;
  if (a.asked_by && a.asked_by !== me.name && me.role === "analyst")
    return (
      <Ask
        trigger={
          <button type="button" className="btn btn-main">
            Approve…
          </button>
        }
        title={`Approve ${c.name}?`}
        words="Approve it"
        act={async () => {
          await post(`/campaigns/${c.id}/approve`);
          await client.invalidateQueries();
        }}
      >
        {a.asked_by} asks for your eyes. You approve what it says, to whom it goes and when; any change ends that.
      </Ask>
    );
  return (
    <May to="write">
      <button
        type="button"
        className="btn"
        onClick={async () => {
          await post(`/campaigns/${c.id}/ask-approval`);
          await client.invalidateQueries();
        }}
      >
        {a.lapsed ? "Ask for approval again" : a.asked_by ? "Asked for approval" : "Ask for approval"}
      </button>
    </May>
  );
}
