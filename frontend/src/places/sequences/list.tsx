import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { Link, useNavigate } from "react-router";
import { get, type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { useKeys } from "../../parts/keys";
import { useListed } from "../../parts/listed";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";

type Line = M["SequenceLine"];
const NONE: Line[] = [];
const WAYS = {
  things: "sequences",
  text: (s: Line) => `${s.name} ${s.begins} ${s.purpose} ${s.state}`,
  columns: {
    name: (s: Line) => s.name,
    state: (s: Line) => s.state,
    purpose: (s: Line) => s.purpose,
    messages: (s: Line) => s.messages,
    days: (s: Line) => s.days,
    active: (s: Line) => s.active,
    queued: (s: Line) => s.queued,
    finished: (s: Line) => s.finished,
  },
};

export function SequenceListPage() {
  const q = useQuery({ queryKey: keys.sequences(), queryFn: () => get("/sequences") });
  const go = useNavigate();
  const client = useQueryClient();
  const field = useRef<HTMLInputElement>(null);
  const { run, error } = useAction();
  useKeys([{ key: "+", words: "new sequence", act: () => field.current?.focus() }]);
  const all = q.data?.sequences ?? NONE;
  const { shown: listed, tools, head } = useListed(all, WAYS);
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
    await run(async () => {
      const done = await post("/sequences", body);
      await client.invalidateQueries({ queryKey: keys.sequences() });
      go(`/sequences/${done.id}`);
    });
  };
  const acts = (
    <May to="write">
      <Form
        className="flex gap-2"
        act={(form) => {
          begin({ name: String(new FormData(form).get("name")) });
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
      </Form>
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
          {tools}
          {listed.length === 0 ? (
            <Quiet>
              {all.length ? "No sequence matches." : "No sequences yet. Start from a template below, or from scratch."}
            </Quiet>
          ) : (
            <Table label="Sequences">
              <thead>
                <tr>
                  {head("name", "Sequence")}
                  {head("state", "State")}
                  {head("purpose", "Purpose")}
                  {head("messages", "Messages", { n: true })}
                  {head("days", "Duration", { n: true })}
                  {head("active", "Active", { n: true })}
                  {head("queued", "Queued", { n: true })}
                  {head("finished", "Completed", { n: true })}
                </tr>
              </thead>
              <tbody>
                {listed.map((s, i) => (
                  <tr key={s.id} className={i === rows.at ? "bg-cornflower-pale" : ""}>
                    <td>
                      <Link className="font-semibold hover:underline" to={`/sequences/${s.id}`}>
                        {s.name}
                      </Link>
                      <div className="text-small text-ink-2">{s.begins}</div>
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
            </Table>
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
