import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { Link } from "react-router";
import { get, type M, put } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { BandList } from "../../parts/bands";
import { ByProvider } from "../../parts/by-provider";
import { ChipBox } from "../../parts/chip-box";
import { useDelayed } from "../../parts/delayed";
import { Exclusions } from "../../parts/exclusions";
import { Expected } from "../../parts/expected";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { Sentence, Waiting } from "../../parts/waiting";
import { useSegments } from "../segments/list";
import type { CampaignProps } from "./campaign";
import { WhyNot } from "./why-not";

export function RecipientsPage({
  c,
  head,
  write,
  data,
  error,
}: CampaignProps & { data: M["RecipientsView"] | undefined; error: Error | null }) {
  const all = useSegments();
  const { run, error: problem } = useAction();
  const draft = c.state === "draft";
  const keep = (values: M["CampaignIn"]) =>
    run(async () => {
      await write(values);
    });
  const sides = useSides(c, write);
  return (
    <Page
      {...head}
      lead="Each person gets one email, even if in several segments. Consent and suppression are checked now, at the start, and before every send."
      side={
        !draft ? (
          <AtTheStart c={c} />
        ) : data ? (
          <>
            <h2 className="mb-2">Exclusions</h2>
            <Exclusions rows={data.exclusions} />
            <FellOut id={c.id} rows={data.exclusions} />
            <h2 className="mt-5 mb-1">Audience</h2>
            <BandList bands={data.bands} />
            <Expected of={data.expected} />
            <ByProvider of={data.providers} total={data.count} />
            {data.zones.some((z) => z.count && z.words !== "not known") && (
              <ByProvider of={data.zones} total={data.count} title="By time zone" />
            )}
            <WhyNot id={c.id} />
          </>
        ) : (
          <Waiting error={error} what="the recipients" />
        )
      }
    >
      <May to="write">
        <Sentence error={problem} />
        {c.kind === "consent request" && (
          <p className="mb-3 border-l-2 border-cornflower pl-3">
            A consent request about {c.asks.join(" and ")}: allowed once, to people with an existing relationship. A
            second one is not possible.
          </p>
        )}
        {!all.data ? (
          <Waiting error={all.error} what="your segments" />
        ) : (
          <>
            {!all.data.segments.length && (
              <p className="mb-3 text-ink-2">
                No segments yet.{" "}
                <Link className="text-cornflower underline" to="/segments/new">
                  Create one
                </Link>
                , or choose a list or single subscribers.
              </p>
            )}
            <div className="grid gap-5">
              <Side c={c} segments={all.data.segments} sides={sides} side="in" disabled={!draft} />
              <Side c={c} segments={all.data.segments} sides={sides} side="out" disabled={!draft} />
            </div>
            <Sentence error={sides.error} />
          </>
        )}
        {c.chosen_people > c.chosen.length && (
          <p className="mt-2 text-ink-2">
            {count(c.chosen_people)} individual subscribers are chosen; the first are shown.
          </p>
        )}
        <label className="mt-5 flex items-baseline gap-2">
          <input
            type="checkbox"
            disabled={!draft}
            checked={c.with_sequences}
            onChange={(e) => keep({ with_sequences: e.target.checked })}
          />
          Include people who are active in a sequence
        </label>
      </May>
    </Page>
  );
}

type SideOf = "in" | "out";
const WORDS = { in: "Send to", out: "Leave out" } as const;
type Chosen = Pick<M["Campaign"], "segments_in" | "segments_out" | "lists_in" | "lists_out">;

/** Who is chosen on both sides. What is chosen counts at once, also while an earlier choice is still being saved, and never
 * stands on both sides. */
function useSides(c: M["Campaign"], write: CampaignProps["write"]) {
  const client = useQueryClient();
  const { run, error } = useAction();
  const wanted = useRef<Chosen | null>(null);
  const saving = useRef<Promise<unknown>>(Promise.resolve());
  const [, redraw] = useState(0);
  const now: Chosen = wanted.current ?? c;
  const change = (values: Partial<Chosen>) => {
    const mine = { ...pick(now), ...values };
    wanted.current = mine;
    redraw((n) => n + 1);
    saving.current = saving.current.then(() =>
      run(async () => {
        if (wanted.current !== mine) return; // a later choice holds this one too
        try {
          await write(changed(c, mine));
        } finally {
          if (wanted.current === mine) wanted.current = null;
          redraw((n) => n + 1);
        }
      }),
    );
  };
  const without = <T,>(of: T[], x: T) => of.filter((y) => y !== x);
  return {
    now,
    error,
    put: (kind: "segments" | "lists", x: number | string, side: SideOf | "") => {
      const [mine, others] = [`${kind}_in`, `${kind}_out`] as const;
      const [inside, outside] = [without(now[mine] as unknown[], x), without(now[others] as unknown[], x)];
      change({
        [mine]: side === "in" ? [...inside, x] : inside,
        [others]: side === "out" ? [...outside, x] : outside,
      } as Partial<Chosen>);
    },
    person: (email: string, side: SideOf | "") => {
      saving.current = saving.current.then(() =>
        run(async () => {
          client.setQueryData(keys.campaign(c.id), await put(`/campaigns/${c.id}/people`, { email, side }));
        }),
      );
    },
  };
}

const pick = ({ segments_in, segments_out, lists_in, lists_out }: Chosen): Chosen => ({
  segments_in,
  segments_out,
  lists_in,
  lists_out,
});
/** Only what is different from the campaign as it is. */
const changed = (c: Chosen, mine: Chosen): Partial<Chosen> =>
  Object.fromEntries(
    (Object.keys(mine) as (keyof Chosen)[])
      .filter((k) => JSON.stringify(mine[k]) !== JSON.stringify(c[k]))
      .map((k) => [k, mine[k]]),
  );

/** One side: segments, lists and single people in one box. */
function Side({
  c,
  segments,
  sides,
  side,
  disabled,
}: {
  c: M["Campaign"];
  segments: M["Segment"][];
  sides: ReturnType<typeof useSides>;
  side: SideOf;
  disabled: boolean;
}) {
  const [text, setText] = useState("");
  const settled = useDelayed(text.trim(), 200);
  const found = useQuery({
    queryKey: keys.found(settled),
    queryFn: ({ signal }) => get(`/search?text=${encodeURIComponent(settled)}`, signal),
    enabled: settled.length > 2 && !disabled,
  });
  const mine = side === "in" ? sides.now.segments_in : sides.now.segments_out;
  const lists = side === "in" ? sides.now.lists_in : sides.now.lists_out;
  const size = (n: number | null) => (n === null ? "–" : count(n));
  const chips = [
    ...segments
      .filter((s) => mine.includes(s.id))
      .map((s) => ({ key: `segment ${s.id}`, words: s.name, detail: size(s.count) })),
    ...c.lists
      .filter((l) => lists.includes(l.words))
      .map((l) => ({ key: `list ${l.words}`, words: `List ${l.words}`, detail: count(l.count) })),
    ...c.chosen.filter((p) => p.side === side).map((p) => ({ key: `person ${p.email}`, words: p.email })),
  ];
  const people = settled === text.trim() ? (found.data?.finds ?? []).filter((f) => f.kind === "subscriber") : [];
  const options = [
    ...segments.map((s) => ({ key: `segment ${s.id}`, words: s.name, group: "segment", detail: size(s.count) })),
    ...c.lists.map((l) => ({ key: `list ${l.words}`, words: l.words, group: "list", detail: count(l.count) })),
    ...people.map((p) => ({
      key: `person ${emailOf(p)}`,
      words: p.name === emailOf(p) ? p.name : `${p.name} ${emailOf(p)}`,
      group: "subscriber",
      detail: "",
    })),
  ];
  const set = (key: string, to: SideOf | "") => {
    const at = key.indexOf(" ");
    const [kind, x] = [key.slice(0, at), key.slice(at + 1)];
    if (kind === "person") sides.person(x, to);
    else sides.put(kind === "segment" ? "segments" : "lists", kind === "segment" ? Number(x) : x, to);
  };
  return (
    <ChipBox
      label={WORDS[side]}
      placeholder={
        side === "in" ? "type a segment, a list or an address" : "no one more than consent and suppression leave out"
      }
      chips={chips}
      options={options}
      typed={setText}
      add={(key) => set(key, side)}
      remove={(key) => set(key, "")}
      disabled={disabled}
    />
  );
}

const emailOf = (f: M["Found"]) => f.detail || f.name;

/** What was so when the campaign was started: who was left out, and the findings that were set aside. */
function AtTheStart({ c }: { c: M["Campaign"] }) {
  return (
    <>
      <h2 className="mb-2">As it was at the start</h2>
      <Exclusions rows={c.at_start} />
      {c.overrides.length > 0 && (
        <>
          <h2 className="mt-5 mb-1">Overridden findings</h2>
          {c.overrides.map((o) => (
            <p key={o.check + o.finding} className="border-b border-rule py-1.5">
              <b>{o.check}</b>: {o.finding}
              <span className="block text-small text-ink-2">
                {o.reason} ({o.who})
              </span>
            </p>
          ))}
        </>
      )}
      <WhyNot id={c.id} />
    </>
  );
}

/** Who fell out by one of the exclusions's reasons. */
function FellOut({ id, rows }: { id: number; rows: M["Exclusion"][] }) {
  const [reason, setReason] = useState("");
  const q = useQuery({
    queryKey: keys.excluded(id, reason),
    queryFn: () => get(`/campaigns/${id}/excluded?reason=${encodeURIComponent(reason)}`),
    enabled: !!reason,
  });
  const reasons = rows.filter((r) => r.count < 0);
  if (!reasons.length) return null;
  return (
    <div className="mt-2">
      <select
        className="field py-0.5"
        aria-label="Show excluded subscribers"
        value={reason}
        onChange={(e) => setReason(e.target.value)}
      >
        <option value="">Show excluded…</option>
        {reasons.map((r) => (
          <option key={r.words} value={r.words}>
            {r.words} ({count(-r.count)})
          </option>
        ))}
      </select>
      {q.data && reason && (
        <ul className="mt-1 max-h-[200px] overflow-auto text-small">
          {q.data.people.map((p) => (
            <li key={p.id}>
              <Link className="hover:underline" to={`/subscribers/${p.id}`}>
                {p.name}
              </Link>
            </li>
          ))}
          {q.data.count > q.data.people.length && (
            <li className="text-ink-2">and {count(q.data.count - q.data.people.length)} more</li>
          )}
        </ul>
      )}
      {reason && (
        <a
          className="text-cornflower text-small underline"
          href={`/api/campaigns/${id}/excluded.csv?reason=${encodeURIComponent(reason)}`}
          download
        >
          Download them as CSV
        </a>
      )}
    </div>
  );
}
