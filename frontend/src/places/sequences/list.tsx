import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, post } from "../../api/client";
import { count } from "../../logic/format";
import { Page, Quiet, Sentence, StateTag, Waiting } from "../../parts/basics";
import { May } from "../../parts/may";
import { useKeys } from "../../parts/me";
import { useRows } from "../../parts/rows";

export function SequenceListPage() {
  const q = useQuery({ queryKey: ["sequences"], queryFn: () => get("/sequences") });
  const go = useNavigate();
  const client = useQueryClient();
  const field = useRef<HTMLInputElement>(null);
  const [error, setError] = useState<Error | null>(null);
  useKeys([{ key: "+", words: "new sequence", act: () => field.current?.focus() }]);
  const listed = q.data?.sequences ?? [];
  const rows = useRows(
    listed.length,
    (at) => {
      const s = listed[at];
      return s
        ? [
            { words: "Steps", act: () => go(`/sequences/${s.id}`) },
            { words: "Simulate", act: () => go(`/sequences/${s.id}/simulation`) },
          ]
        : [];
    },
    (at) => go(`/sequences/${listed[at]?.id}`),
  );
  const begin = async (body: { name: string; ready?: string }) => {
    setError(null);
    try {
      const done = await post("/sequences", body);
      await client.invalidateQueries({ queryKey: ["sequences"] });
      go(`/sequences/${done.id}`);
    } catch (x) {
      setError(x as Error);
    }
  };
  const acts = (
    <May to="write">
      <form
        className="flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          begin({ name: String(new FormData(e.currentTarget).get("name")) });
        }}
      >
        <input
          ref={field}
          className="field w-[230px]"
          name="name"
          placeholder="Name of new sequence"
          aria-label="Name of new sequence"
          required
        />
        <button type="submit" className="btn btn-main">
          Create sequence
        </button>
      </form>
    </May>
  );
  return (
    <Page title="Sequences" lead="Automated series of messages, triggered per person." acts={acts}>
      <Sentence error={error} />
      {rows.menu}
      {!q.data ? (
        <Waiting error={q.error} what="the sequences" />
      ) : (
        <>
          {listed.length === 0 ? (
            <Quiet>No sequences yet. Start from a template below, or from scratch.</Quiet>
          ) : (
            <table className="lined">
              <thead>
                <tr>
                  <th>Sequence</th>
                  <th />
                  <th>Purpose</th>
                  <th className="n">Messages</th>
                  <th className="n">Duration</th>
                  <th className="n">Active</th>
                  <th className="n">Queued</th>
                  <th className="n">Completed</th>
                </tr>
              </thead>
              <tbody>
                {listed.map((s, i) => (
                  <tr key={s.id} className={i === rows.at ? "bg-cornflower-pale" : ""}>
                    <td>
                      <Link className="font-semibold hover:underline" to={`/sequences/${s.id}`}>
                        {s.name}
                      </Link>
                      <div className="text-[13px] text-ink-2">{s.begins}</div>
                    </td>
                    <td>
                      <StateTag state={s.state} />
                    </td>
                    <td>{s.purpose}</td>
                    <td className="n">{s.messages}</td>
                    <td className="n">{s.days} days</td>
                    <td className="n">{count(s.active)}</td>
                    <td className="n">{count(s.queued)}</td>
                    <td className="n">{count(s.finished)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <h2 className="mt-7 mb-1">Templates</h2>
          <p className="mb-3 text-ink-2">
            Each becomes a draft with its messages written. Nothing is sent until you start it.
          </p>
          <ul className="border-t border-rule">
            {q.data.ready.map((r) => (
              <li key={r.key} className="flex items-start gap-5 border-b border-rule py-2.5">
                <span className="w-[210px] shrink-0 font-semibold">{r.name}</span>
                <span className="min-w-0 flex-1 text-ink-2">{r.sentence}</span>
                <May to="write">
                  <button
                    type="button"
                    className="btn shrink-0 py-0.5"
                    aria-label={`Use ${r.name}`}
                    onClick={() => begin({ name: r.name, ready: r.key })}
                  >
                    Use template
                  </button>
                </May>
              </li>
            ))}
          </ul>
        </>
      )}
    </Page>
  );
}
