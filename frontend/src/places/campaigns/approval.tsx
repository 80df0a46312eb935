import { useQueryClient } from "@tanstack/react-query";
import { type M, post } from "../../api/client";
import { changedIn } from "../../api/keys";
import { Ask } from "../../parts/ask";
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
        words="Approve campaign"
        act={async () => {
          await post(`/campaigns/${c.id}/approve`);
          await changedIn(client, "campaigns");
        }}
      >
        {a.asked_by} asked for your approval of content, recipients and schedule. Any later change needs a new approval.
      </Ask>
    );
  return (
    <May to="write">
      <button
        type="button"
        className="btn"
        onClick={async () => {
          await post(`/campaigns/${c.id}/request-approval`);
          await changedIn(client, "campaigns");
        }}
      >
        {a.expired ? "Request approval again" : a.asked_by ? "Approval requested" : "Request approval"}
      </button>
    </May>
  );
}
