import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { get, type M, put } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { BandList } from "../../parts/bands";
import { ByProvider } from "../../parts/by-provider";
import { Exclusions } from "../../parts/exclusions";
import { Expected } from "../../parts/expected";
import { Choice } from "../../parts/labelled";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
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
  const keep = async (values: M["CampaignIn"]) => {
    await run(async () => {
      await write(values);
    });
  };
  const placed = <T,>(to: Side, x: T, inside: T[], outside: T[]): [T[], T[]] => {
    const without = (all: T[]) => all.filter((y) => y !== x);
    return [
      to === "in" ? [...without(inside), x] : without(inside),
      to === "out" ? [...without(outside), x] : without(outside),
    ];
  };
  const segment = (id: number, to: Side) => {
    const [segments_in, segments_out] = placed(to, id, c.segments_in, c.segments_out);
    return keep({ segments_in, segments_out });
  };
  const list = (name: string, to: Side) => {
    const [lists_in, lists_out] = placed(to, name, c.lists_in, c.lists_out);
    return keep({ lists_in, lists_out });
  };
  // those in use when the page is opened stand first; they keep their place while one chooses
  const [first] = useState(() => new Set([...c.segments_in, ...c.segments_out]));
  const at = (id: number): Side => (c.segments_in.includes(id) ? "in" : c.segments_out.includes(id) ? "out" : "");
  const listAt = (n: string): Side => (c.lists_in.includes(n) ? "in" : c.lists_out.includes(n) ? "out" : "");
  const draft = c.state === "draft";
  return (
    <Page
      {...head}
      lead="Each person gets one email, even if in several segments. Consent and suppression are checked now, at the start, and before every send."
      side={
        data ? (
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
        ) : !all.data.segments.length ? (
          <p className="text-ink-2">
            No segments yet.{" "}
            <Link className="text-cornflower underline" to="/segments/new">
              Create one
            </Link>
          </p>
        ) : (
          <Table label="Segments">
            <thead>
              <tr>
                <th scope="col" className="w-[190px]">
                  This campaign
                </th>
                <th scope="col">Segment</th>
                <th scope="col" className="n w-[90px]">
                  People
                </th>
              </tr>
            </thead>
            <tbody>
              {[...all.data.segments]
                .sort((a, b) => Number(first.has(b.id)) - Number(first.has(a.id)))
                .map((s) => (
                  <tr key={s.id}>
                    <td>
                      <SideSelect name={s.name} at={at(s.id)} set={(to) => segment(s.id, to)} disabled={!draft} />
                    </td>
                    <td>
                      <span className={at(s.id) ? "font-semibold" : ""}>{s.name}</span>
                      <br />
                      <span className="text-small text-ink-2">{s.rule}</span>
                    </td>
                    <td className="n">{s.count === null ? "–" : count(s.count)}</td>
                  </tr>
                ))}
            </tbody>
          </Table>
        )}
        {c.lists.length > 0 && (
          <Table label="Lists" className="mt-7">
            <thead>
              <tr>
                <th scope="col" className="w-[190px]">
                  This campaign
                </th>
                <th scope="col">List</th>
                <th scope="col" className="n w-[90px]">
                  People
                </th>
              </tr>
            </thead>
            <tbody>
              {c.lists.map((l) => (
                <tr key={l.words}>
                  <td>
                    <SideSelect
                      name={`List ${l.words}`}
                      at={listAt(l.words)}
                      set={(to) => list(l.words, to)}
                      disabled={!draft}
                    />
                  </td>
                  <td className={listAt(l.words) ? "font-semibold" : ""}>{l.words}</td>
                  <td className="n">{count(l.count)}</td>
                </tr>
              ))}
            </tbody>
          </Table>
        )}
        <OneByOne c={c} draft={draft} />
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

type Side = "in" | "out" | "";

function SideSelect({
  name,
  at,
  set,
  disabled,
}: {
  name: string;
  at: Side;
  set: (to: Side) => void;
  disabled: boolean;
}) {
  return (
    <Choice
      label={`${name} in this campaign`}
      hidden
      className="w-[170px] py-0.5"
      disabled={disabled}
      value={at}
      set={set}
      of={[
        ["", "–"],
        ["in", "Include"],
        ["out", "Exclude"],
      ]}
    />
  );
}

/** Single people by their address, in or out. */
function OneByOne({ c, draft }: { c: M["Campaign"]; draft: boolean }) {
  const client = useQueryClient();
  const [email, setEmail] = useState("");
  const [error, setError] = useState<Error | null>(null);
  const choose = async (who: string, side: Side) => {
    setError(null);
    try {
      client.setQueryData(keys.campaign(c.id), await put(`/campaigns/${c.id}/people`, { email: who, side }));
      setEmail("");
    } catch (e) {
      setError(e as Error);
    }
  };
  return (
    <section className="mt-7">
      <h2 className="mb-1">Individual subscribers</h2>
      {draft && (
        <div className="flex max-w-[560px] gap-2">
          <input
            className="field"
            type="email"
            aria-label="Address of a subscriber"
            placeholder="the address of a subscriber"
            value={email}
            onChange={(e) => setEmail(e.target.value)}
          />
          <button type="button" className="btn" disabled={!email.trim()} onClick={() => choose(email, "in")}>
            Include
          </button>
          <button type="button" className="btn" disabled={!email.trim()} onClick={() => choose(email, "out")}>
            Exclude
          </button>
        </div>
      )}
      <Sentence error={error} />
      {c.chosen.map((p) => (
        <p key={p.id + p.side} className="mt-1">
          <Link className="hover:underline" to={`/subscribers/${p.id}`}>
            {p.email}
          </Link>{" "}
          <span className="text-ink-2">{p.side === "in" ? "included" : "excluded"}</span>
          {draft && (
            <button
              type="button"
              className="btn btn-bare ml-2 py-0"
              aria-label={`Remove ${p.email}`}
              onClick={() => choose(p.email, "")}
            >
              Remove
            </button>
          )}
        </p>
      ))}
      {c.chosen_people > c.chosen.length && (
        <p className="mt-1 text-ink-2">
          {count(c.chosen_people)} individual subscribers are included; the first are shown.
        </p>
      )}
    </section>
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
    </div>
  );
}
