import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, post } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";

/** Who is never mailed, why and since when; lifted by hand where that may be. */
export function Suppressions({ analyst }: { analyst: boolean }) {
  const { moment } = useTimes();
  const client = useQueryClient();
  const q = useQuery({ queryKey: keys.suppressions(), queryFn: () => get("/suppressions") });
  const [why, setWhy] = useState("");
  const d = q.data;
  if (!d) return null;
  return (
    <>
      <h2 className="mt-7 mb-1">Suppressed: {count(d.total)}</h2>
      <p className="mb-1 text-small text-ink-2">
        {d.counts
          .filter((c) => c.count)
          .map((c) => `${c.words} ${count(c.count)}`)
          .join(", ") || "No one is suppressed."}
        {d.total > 0 && (
          <>
            {" · "}
            <Link className="text-cornflower underline" to="/subscribers/table?rule=suppressed">
              show all in the table
            </Link>
            {" · "}
            <a className="text-cornflower underline" href="/api/suppressions.csv" download>
              download the list
            </a>
          </>
        )}
      </p>
      <p className="mb-1 text-small text-ink-2">
        <Link className="text-cornflower underline" to="/subscribers/import?suppress">
          Suppress a list
        </Link>
        : paste addresses, or import the suppression list of your previous system.
      </p>
      {d.total > 0 && (
        <Table label="Suppressions">
          <thead>
            <tr>
              <th scope="col">Subscriber</th>
              <th scope="col">Reason</th>
              <th scope="col">Since</th>
              <th scope="col">By</th>
              <th scope="col">
                <span className="sr-only">Remove</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {d.rows.slice(0, 20).map((r) => (
              <tr key={`${r.subscriber}:${r.reason}`}>
                <td>
                  <Link className="hover:underline" to={`/subscribers/${r.subscriber}`}>
                    {r.email}
                  </Link>
                </td>
                <td>{r.reason}</td>
                <td className="whitespace-nowrap text-ink-2">{moment(r.at)}</td>
                <td className="max-w-[240px] truncate text-ink-2" title={r.source}>
                  {r.source}
                </td>
                <td className="n">
                  {analyst && r.liftable ? (
                    <Ask
                      trigger={
                        <button
                          type="button"
                          className="btn btn-bare py-0"
                          aria-label={`Remove the suppression of ${r.email} (${r.reason})`}
                        >
                          Remove…
                        </button>
                      }
                      title={`Remove ${r.email} from the suppression list?`}
                      words="Remove suppression"
                      disabled={!why.trim()}
                      opened={() => setWhy("")}
                      act={async () => {
                        const done = await post("/suppressions/remove", {
                          subscriber: r.subscriber,
                          reason: r.reason,
                          why,
                        });
                        await peopleChanged(client);
                        offerUndo({
                          words: `${r.email} is no longer suppressed (${r.reason}).`,
                          undo: async () => {
                            await post(`/activity/${done.action}/undo`);
                            await peopleChanged(client);
                          },
                        });
                      }}
                    >
                      <label className="block text-ink">
                        <span className="label">Reason (logged)</span>
                        <input
                          className="field"
                          value={why}
                          placeholder="for example: the mailbox works again"
                          onChange={(e) => setWhy(e.target.value)}
                        />
                      </label>
                    </Ask>
                  ) : (
                    <span className="text-small text-ink-3">{r.liftable ? "" : "only by a new opt-in"}</span>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </>
  );
}
