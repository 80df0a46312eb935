import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { type M, post, remove } from "../../api/client";
import { count, people } from "../../logic/format";
import { Ask } from "../../parts/basics";
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
      await client.invalidateQueries();
    };
  const running = s.state === "running";
  const begin = s.ladder.begin;
  const limit = begin.a_day;
  return (
    <>
      <May to="write">
        {s.state === "draft" && (
          <Ask
            trigger={
              <button type="button" className="btn">
                Throw away
              </button>
            }
            title={`Throw ${s.name} away?`}
            words="Throw it away"
            grave
            act={async () => {
              await remove(`/sequences/${s.id}`);
              await client.invalidateQueries();
              go("/sequences");
            }}
          >
            The draft and its messages are gone. Nobody has got anything of it.
          </Ask>
        )}
      </May>
      <May to="decide">
        {(running || s.state === "paused") && (
          <>
            <Ask
              trigger={
                <button type="button" className="btn">
                  Put people in…
                </button>
              }
              title="Put people in"
              words="Put them in"
              disabled={!emails.trim() && !rule.trim()}
              act={act("people", { emails: emails.split(/[\s,;]+/).filter(Boolean), rule })}
            >
              <label className="block">
                <span className="label">Addresses, one a line</span>
                <textarea className="field" rows={3} value={emails} onChange={(e) => setEmails(e.target.value)} />
              </label>
              <TextField
                label="Or everybody of whom this rule holds"
                value={rule}
                set={setRule}
                placeholder='in segment "Season news regulars"'
              />
              <p className="mt-3">
                {limit ? `At most ${count(limit)} begin a day; the others wait. ` : "All of them begin at once. "}
                {s.ladder.begin.again_after === null && "Whoever has been inside before does not enter again."}
              </p>
            </Ask>
            <Ask
              trigger={
                <button type="button" className="btn">
                  End…
                </button>
              }
              title={`End ${s.name} for good?`}
              words="End it"
              grave
              act={act("end")}
            >
              {people(s.inside)} inside leave where they stand, and nobody enters any more. This cannot be taken back;
              what was sent is kept.
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
                Go on
              </button>
            }
            title={`Go on with ${s.name}?`}
            words="Go on"
            act={act("go-on")}
          >
            Whoever was due meanwhile goes on
            {limit ? ` in the order they were due, at most ${count(limit)} a day.` : " at once."}
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
            words="Start it"
            act={act("start", { with_those_there: there })}
          >
            <p>{s.begins}</p>
            {s.ladder.begin.on !== "by hand" && s.there === 0 && (
              <p className="mt-2">That holds of nobody yet: whoever it comes to hold of enters.</p>
            )}
            {s.there > 0 && (
              <label className="mt-3 flex items-start gap-2">
                <input type="checkbox" className="mt-1" checked={there} onChange={(e) => setThere(e.target.checked)} />
                <span>
                  Bring in the {people(s.there)} too of whom that holds already
                  {begin.a_day ? `, over ${count(daysOf(s.there, begin.first_day, begin.a_day))} days` : ""}. Otherwise
                  only who comes from now on enters.
                </span>
              </label>
            )}
            {s.ladder.begin.on === "by hand" && <p className="mt-2">Nobody is inside at first; you put people in.</p>}
          </Ask>
        )}
      </May>
    </>
  );
}
