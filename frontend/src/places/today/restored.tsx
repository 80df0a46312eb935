import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, post } from "../../api/client";
import { keys, peopleChanged } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";

/** After a restore: what may already have been sent, the relay's log as the way to know, and the decision to go on. */
export function RestoredPage() {
  const { moment } = useTimes();
  const client = useQueryClient();
  const [text, setText] = useState("");
  const { run, error } = useAction();
  const [said, setSaid] = useState("");
  const q = useQuery({ queryKey: keys.outgoing(), queryFn: () => get("/outgoing") });
  if (!q.data)
    return (
      <Page title="Restored">
        <Waiting error={q.error} what="what is paused" />
      </Page>
    );
  const p = q.data.paused;
  if (!p)
    return (
      <Page title="Restored">
        <Quiet>Nothing is paused. Everything is sent as scheduled.</Quiet>
      </Page>
    );
  const waiting = p.plans.reduce((n, x) => n + x.waiting, 0);
  const people = `${count(waiting)} ${waiting === 1 ? "delivery" : "deliveries"}`;
  const read = async () => {
    setSaid("");
    await run(async () => {
      const done = await post("/outgoing/log", { text });
      setSaid(`${count(done.count ?? 0)} had already been sent and will not be sent again.`);
      setText("");
      await peopleChanged(client);
    });
  };
  return (
    <Page
      title="Restored"
      lead={`This workspace was restored to ${moment(p.as_of)}: ${p.why} on ${moment(p.since)}. All sending is paused.`}
      acts={
        <May to="decide">
          <Ask
            trigger={
              <button type="button" className="btn btn-main">
                Resume sending…
              </button>
            }
            title="Resume sending?"
            words="Resume sending"
            grave
            act={async () => {
              await post("/outgoing/resume");
              await peopleChanged(client);
            }}
          >
            {people} below are queued and will be sent as scheduled. Anyone who received the message after{" "}
            {moment(p.as_of)} receives it a second time, unless the relay's log shows that it was sent.
          </Ask>
        </May>
      }
      side={
        <>
          <h2 className="mb-1">What this means</h2>
          <p className="text-ink-2">
            The backup does not know what was sent after it was made. The relay's log does: every message it names is
            counted as sent.
          </p>
        </>
      }
    >
      <Table label="In progress at that time" className="max-w-[640px]">
        <thead>
          <tr>
            <th scope="col">In progress at that time</th>
            <th scope="col" className="n">
              Wait
            </th>
          </tr>
        </thead>
        <tbody>
          {p.plans.map((x) => (
            <tr key={x.id}>
              <td>
                <Link className="hover:underline" to={`/campaigns/${x.id}/schedule`}>
                  {x.name}
                </Link>
              </td>
              <td className="n">{count(x.waiting)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
      <May to="decide">
        <h2 className="mt-6 mb-1">Relay log since {moment(p.as_of)}</h2>
        <p className="mb-2 max-w-[64ch] text-ink-2">
          Paste its lines or choose the file. Any format with Message-IDs or return paths works.
        </p>
        <textarea
          className="field h-44 max-w-[820px] font-mono text-tiny"
          aria-label="Relay log lines"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
        <div className="mt-2 flex flex-wrap items-center gap-3">
          <input
            type="file"
            aria-label="Relay log file"
            onChange={async (e) => setText((await e.target.files?.[0]?.text()) ?? "")}
          />
          <button type="button" className="btn" disabled={!text.trim()} onClick={read}>
            Read the log
          </button>
        </div>
        <Sentence error={error} />
        {said && (
          <p role="status" className="mt-2 text-clover">
            {said}
          </p>
        )}
      </May>
    </Page>
  );
}
