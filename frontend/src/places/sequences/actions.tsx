import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type M, post, remove } from "../../api/client";
import { changedIn } from "../../api/keys";
import { count, people } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { TextField } from "../../parts/labelled";
import { May } from "../../parts/may";
import { daysOf } from "./words";

/** Start, pause, go on, end, put people in. */
export function Acts({ s }: { s: M["SequenceView"] }) {
  const client = useQueryClient();
  const go = useNavigate();
  const [there, setThere] = useState(false);
  const [emails, setEmails] = useState("");
  const [rule, setRule] = useState("");
  const act =
    (word: string, body: Record<string, unknown> = {}) =>
    async () => {
      await post(`/sequences/${s.id}/${word}`, body);
      await changedIn(client, "sequences");
    };
  const running = s.state === "running";
  const begin = s.definition.begin;
  const limit = begin.a_day;
  return (
    <>
      <May to="write">
        {s.state === "draft" && (
          <Ask
            trigger={
              <button type="button" className="btn">
                Delete draft
              </button>
            }
            title={`Delete ${s.name}?`}
            words="Delete draft"
            grave
            act={async () => {
              await remove(`/sequences/${s.id}`);
              await changedIn(client, "sequences");
              go("/sequences");
            }}
          >
            Deletes the draft and its messages. Nothing of it was sent.
          </Ask>
        )}
      </May>
      <May to="decide">
        {(running || s.state === "paused") && (
          <>
            <Ask
              trigger={
                <button type="button" className="btn">
                  Add subscribers…
                </button>
              }
              title="Add subscribers"
              words="Add subscribers"
              disabled={!emails.trim() && !rule.trim()}
              act={async () => {
                const body = { emails: emails.split(/[\s,;]+/).filter(Boolean), rule };
                const done = await post(`/sequences/${s.id}/people`, body);
                await changedIn(client, "sequences");
                if (done.unknown.length) {
                  setEmails(done.unknown.join("\n"));
                  throw new Error(
                    `${people(done.queued)} added. Not known here: ${done.unknown.slice(0, 5).join(", ")}${done.unknown.length > 5 ? ` and ${done.unknown.length - 5} more` : ""}.`,
                  );
                }
              }}
            >
              <label className="block">
                <span className="label">Addresses, one per line</span>
                <textarea className="field" rows={3} value={emails} onChange={(e) => setEmails(e.target.value)} />
              </label>
              <TextField
                label="Or everyone who matches this rule"
                value={rule}
                set={setRule}
                placeholder='in segment "Season news regulars"'
              />
              <p className="mt-3">
                {limit ? `At most ${count(limit)} start per day; the rest queue. ` : "All of them start right away. "}
                {s.definition.begin.again_after === null && "People who were in it before do not enter again."}
              </p>
            </Ask>
            <Ask
              trigger={
                <button type="button" className="btn">
                  End…
                </button>
              }
              title={`End ${s.name}?`}
              words="End sequence"
              grave
              act={act("end")}
            >
              {count(s.active)} active {s.active === 1 ? "person" : "people"} exit, and no one can enter any more. This
              cannot be undone. Results stay.
            </Ask>
          </>
        )}
        {running && (
          <button type="button" className="btn" onClick={act("pause")}>
            Pause
          </button>
        )}
        {s.state === "paused" && (
          <Ask
            trigger={
              <button type="button" className="btn btn-main">
                Resume
              </button>
            }
            title={`Resume ${s.name}?`}
            words="Resume"
            act={act("resume")}
          >
            Overdue steps run
            {limit ? ` in the order they were due, at most ${count(limit)} per day.` : " right away."}
          </Ask>
        )}
        {s.state === "draft" && (
          <Ask
            trigger={
              <button type="button" className="btn btn-main" disabled={s.missing.length > 0}>
                Start…
              </button>
            }
            title={`Start ${s.name}?`}
            words="Start sequence"
            act={act("start", { with_those_there: there })}
          >
            <p>{s.begins}</p>
            {s.definition.begin.on !== "manual" && s.there === 0 && (
              <p className="mt-2">No one matches yet. People enter as soon as they do.</p>
            )}
            {s.there > 0 && (
              <label className="mt-3 flex items-start gap-2">
                <input type="checkbox" className="mt-1" checked={there} onChange={(e) => setThere(e.target.checked)} />
                <span>
                  Also add the {people(s.there)} who match now
                  {begin.a_day ? `, over ${count(daysOf(s.there, begin.first_day, begin.a_day))} days` : ""}. Otherwise
                  only new matches enter.
                </span>
              </label>
            )}
            {s.definition.begin.on === "manual" && <p className="mt-2">No one is active at first; you add people.</p>}
          </Ask>
        )}
      </May>
    </>
  );
}
