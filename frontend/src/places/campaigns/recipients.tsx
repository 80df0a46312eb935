import { useState } from "react";
import { Link } from "react-router";
import type { M } from "../../api/client";
import { count } from "../../logic/format";
import { BandList, ByProvider, Page, Sentence, Sieve, Waiting } from "../../parts/basics";
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
  const [problem, setProblem] = useState<Error | null>(null);
  const set = async (id: number, to: "in" | "out" | "") => {
    setProblem(null);
    const without = (ids: number[]) => ids.filter((x) => x !== id);
    try {
      await write({
        segments_in: to === "in" ? [...without(c.segments_in), id] : without(c.segments_in),
        segments_out: to === "out" ? [...without(c.segments_out), id] : without(c.segments_out),
      });
    } catch (e) {
      setProblem(e as Error);
    }
  };
  const at = (id: number) => (c.segments_in.includes(id) ? "in" : c.segments_out.includes(id) ? "out" : "");
  return (
    <Page
      {...head}
      lead="Who is in several segments gets it once. The gate is asked now, when the plan starts, and for each person at hand-over."
      side={
        data ? (
          <>
            <h2 className="mb-2">From chosen to permitted</h2>
            <Sieve rows={data.sieve} />
            <h2 className="mt-5 mb-1">Who they are</h2>
            <BandList bands={data.bands} />
            <ByProvider of={data.providers} total={data.count} />
            <WhyNot id={c.id} />
          </>
        ) : (
          <Waiting error={error} what="the recipients" />
        )
      }
    >
      <Sentence error={problem} />
      {c.kind === "consent request" && (
        <p className="mb-3 border-l-2 border-cornflower pl-3">
          A consent request about {c.asks.join(" and ")}: allowed once, to people with a prior relation. A second one is
          refused.
        </p>
      )}
      {c.chosen_people > 0 && <p className="mb-3 text-ink-2">{count(c.chosen_people)} people chosen one by one.</p>}
      {!all.data ? (
        <Waiting error={all.error} what="your segments" />
      ) : !all.data.segments.length ? (
        <p className="text-ink-2">
          There is no segment to choose.{" "}
          <Link className="text-cornflower underline" to="/segments/new">
            Write one
          </Link>
        </p>
      ) : (
        <table className="lined">
          <thead>
            <tr>
              <th className="w-[190px]">This campaign</th>
              <th>Segment</th>
              <th className="n w-[90px]">People</th>
            </tr>
          </thead>
          <tbody>
            {all.data.segments.map((s) => (
              <tr key={s.id}>
                <td>
                  <select
                    className="field w-[170px] py-0.5"
                    aria-label={`${s.name} in this campaign`}
                    disabled={c.state !== "draft"}
                    value={at(s.id)}
                    onChange={(e) => set(s.id, e.target.value as "in" | "out" | "")}
                  >
                    <option value="">not used</option>
                    <option value="in">goes to them</option>
                    <option value="out">leaves them out</option>
                  </select>
                </td>
                <td>
                  <span className={at(s.id) ? "font-semibold" : ""}>{s.name}</span>
                  <br />
                  <span className="text-[13px] text-ink-2">{s.rule}</span>
                </td>
                <td className="n">{s.count === null ? "–" : count(s.count)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Page>
  );
}
