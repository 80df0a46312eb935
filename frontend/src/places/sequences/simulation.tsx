import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { Form } from "../../parts/form";
import { Page } from "../../parts/page";
import { useTimes } from "../../parts/times";
import { Waiting } from "../../parts/waiting";
import { sentence } from "./words";

const SUPPOSED: [string, string][] = [
  ["never", "never opens anything"],
  ["resends", "opens only resends"],
  ["always", "opens and clicks everything"],
];

/** What somebody would get, day by day. Nothing is sent. */
export function WalkPage() {
  const { weekday } = useTimes();
  const { id } = useParams();
  const [supposed, setSupposed] = useState("never");
  const [email, setEmail] = useState("");
  const [asked, setAsked] = useState("");
  const s = useQuery({ queryKey: keys.sequence(id), queryFn: () => get(`/sequences/${Number(id)}`) });
  const q = useQuery({
    queryKey: keys.simulation(id, supposed, asked),
    queryFn: () => get(`/sequences/${Number(id)}/simulation?supposed=${supposed}&email=${encodeURIComponent(asked)}`),
    placeholderData: (before) => before,
    retry: false,
  });
  const days = new Map<number, M["WalkDay"][]>();
  for (const d of q.data?.days ?? []) days.set(d.day, [...(days.get(d.day) ?? []), d]);
  const mails = q.data?.days.filter((d) => d.what === "mail").length ?? 0;
  const last = q.data?.days[q.data.days.length - 1];
  return (
    <Page
      title="Simulation"
      lead={
        <>
          <Link className="text-cornflower underline" to={`/sequences/${id}`}>
            {s.data?.name ?? "The sequence"}
          </Link>{" "}
          as if someone entered now. Nothing is sent.
        </>
      }
    >
      <Form
        className="mb-5 flex flex-wrap items-end gap-4"
        act={() => {
          setAsked(email);
        }}
      >
        <label className="w-[250px]">
          <span className="label">Who</span>
          <input
            className="field"
            value={email}
            placeholder="anyone, or an address"
            onChange={(e) => setEmail(e.target.value)}
            onBlur={() => setAsked(email)}
          />
        </label>
        <fieldset className="flex flex-wrap">
          <legend className="label">Behaviour</legend>
          {SUPPOSED.map(([key, words]) => (
            <button
              key={key}
              type="button"
              aria-pressed={supposed === key}
              className={`btn -ml-px rounded-none first:ml-0 first:rounded-l last:rounded-r ${supposed === key ? "bg-cornflower-pale text-cornflower-deep" : "font-normal"}`}
              onClick={() => setSupposed(key)}
            >
              {words}
            </button>
          ))}
        </fieldset>
      </Form>
      {q.error || !q.data ? (
        <Waiting error={q.error} what="the days" />
      ) : (
        <>
          <p className="mb-3">
            <b>
              {mails} {mails === 1 ? "message" : "messages"}
            </b>{" "}
            to {q.data.who}, who {q.data.supposed}
            {last && last.day > 0 ? `, over ${last.day} ${last.day === 1 ? "day" : "days"}` : ""}.
          </p>
          <ol className="max-w-[760px]">
            {[...days.entries()].map(([n, list]) => (
              <li key={n} className="grid grid-cols-[74px_22px_1fr]">
                <div className="pt-2 text-right">
                  <b>Day {n}</b>
                  <div className="text-small text-ink-2">{weekday(list[0]?.at ?? 0)}</div>
                </div>
                <div className="relative">
                  <span className="absolute top-0 bottom-0 left-1/2 w-px bg-rule-strong" />
                  <span className="absolute top-3 left-1/2 h-[9px] w-[9px] -translate-x-1/2 rounded-full border-2 border-ink-2 bg-paper" />
                </div>
                <div className="pb-3 pl-2">
                  {list.map((d, i) => (
                    <WalkLine key={i} d={d} s={s.data} />
                  ))}
                </div>
              </li>
            ))}
          </ol>
        </>
      )}
    </Page>
  );
}

function WalkLine({ d, s }: { d: M["WalkDay"]; s: M["SequenceView"] | undefined }) {
  const { clockTime } = useTimes();
  const step = s?.definition.steps.find((x) => x.key === d.step);
  const words = s && step ? sentence(step, s.steps) : "";
  if (d.what === "mail")
    return (
      <div className="mt-1 flex items-baseline justify-between gap-4 rounded border border-rule-strong bg-panel px-3 py-2">
        <span>
          <b>{d.subject || "No subject yet"}</b>
          <span className="ml-2 text-small text-ink-2">
            {d.title}
            {d.kind === "resend" ? ", resend" : ""}
          </span>
        </span>
        <span className="shrink-0 text-small text-ink-2">
          {clockTime(d.at)}
          {d.campaign && (
            <Link className="ml-3 text-cornflower underline" to={`/campaigns/${d.campaign}/message`}>
              view
            </Link>
          )}
        </span>
      </div>
    );
  if (d.what === "waits" || (d.what === "done" && d.kind === "end")) return null;
  return (
    <p className="mt-2 text-ink-2">
      {d.what === "ends" ? "End of the sequence." : words}
      {d.what === "asked" && <b className="ml-1.5 text-ink">{d.said}</b>}
      {d.note && <span className="text-small"> ({d.note})</span>}
    </p>
  );
}
