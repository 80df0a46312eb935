import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import { get, type M, post } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { Table } from "../../parts/table";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence } from "../../parts/waiting";

/** Ask before two subscribers become one: what the one who stays takes over. Without ``email`` it is typed. */
export function MergeAsk({
  keep,
  email: known,
  trigger,
}: {
  keep: M["DuplicatePerson"];
  email?: string;
  trigger: ReactNode;
}) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState("");
  const email = (known ?? typed).trim();
  const plan = useQuery({
    queryKey: keys.mergePlan(keep.id, email),
    queryFn: () => post("/duplicates/plan", { keep: keep.id, email }),
    enabled: open && email.includes("@"),
    retry: false,
  });
  return (
    <Ask
      trigger={trigger}
      title={`Merge a duplicate into ${keep.email}`}
      words="Merge"
      disabled={!plan.data || plan.isFetching}
      opened={(o) => {
        setOpen(o);
        setTyped("");
      }}
      act={async () => {
        const done = await post("/duplicates/merge", { keep: keep.id, email });
        await peopleChanged(client);
        offerUndo({
          words: `${email} merged into ${keep.email}.`,
          undo: async () => {
            await post(`/activity/${done.id}/undo`);
            await peopleChanged(client);
          },
        });
      }}
    >
      {known === undefined && (
        <label className="mb-3 block text-ink">
          <span className="label">Address of the duplicate</span>
          <input className="field" type="email" value={typed} onChange={(e) => setTyped(e.target.value)} />
        </label>
      )}
      {plan.data && (
        <>
          <p className="mb-1 text-ink">{keep.email} takes over:</p>
          <ul className="mb-3 list-disc pl-5 text-ink">
            {plan.data.takes.map((t) => (
              <li key={t}>{t}</li>
            ))}
            {plan.data.takes.length === 0 && <li>nothing: it is all here already</li>}
          </ul>
          <p>
            {plan.data.other.email} gets no more mail. Its opens, clicks and bounces stay with it; a withdrawal there
            that is later than anything said here holds for both.
          </p>
        </>
      )}
      <Sentence error={plan.error} />
    </Ask>
  );
}

/** Pairs that are most likely one person. */
export function PossibleDuplicates() {
  const q = useQuery({ queryKey: keys.duplicates(), queryFn: () => get("/duplicates") });
  const pairs = q.data?.pairs ?? [];
  if (pairs.length === 0) return null;
  return (
    <>
      <h2 className="mt-7 mb-1">Possible duplicates</h2>
      <p className="mb-1 text-ink-2">
        {count(pairs.length)} pairs with one mailbox, or one name and one part before the @. The more engaged one is
        proposed to stay.
      </p>
      <Table label="Possible duplicates">
        <thead>
          <tr>
            <th scope="col">Stays</th>
            <th scope="col">Duplicate</th>
            <th scope="col">Why</th>
            <th scope="col">
              <span className="sr-only">Merge</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {pairs.slice(0, SHOWN).map((d) => (
            <tr key={`${d.keep.id} ${d.other.id}`}>
              {[d.keep, d.other].map((p) => (
                <td key={p.id} className="max-w-[230px]">
                  <Link className="block truncate hover:underline" to={`/subscribers/${p.id}`} title={p.email}>
                    {p.email}
                  </Link>
                  <span className="block truncate text-small text-ink-2">{p.name}</span>
                </td>
              ))}
              <td className="text-small text-ink-2">{d.why}</td>
              <td className="n">
                <May to="decide">
                  <MergeAsk
                    keep={d.keep}
                    email={d.other.email}
                    trigger={
                      <button type="button" className="btn btn-bare">
                        Merge…<span className="sr-only"> {d.other.email}</span>
                      </button>
                    }
                  />
                </May>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}

const SHOWN = 20; // at once; those behind come up as these are merged
