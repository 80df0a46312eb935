import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { get, type M, post, remove } from "../../api/client";
import { keys } from "../../api/keys";
import type { Names } from "../../logic/clauses";
import { count, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { BandBar } from "../../parts/bands";
import { useKeys } from "../../parts/keys";
import { useListed } from "../../parts/listed";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";

export const useSegments = () => useQuery({ queryKey: keys.segments(), queryFn: () => get("/segments") });

/** The names that rules can use, with their counts. */
export function useNames(): Names {
  const q = useQuery({ queryKey: keys.segmentNames(), queryFn: () => get("/segments/names"), staleTime: 60_000 });
  return q.data?.names ?? NO_NAMES;
}
const NO_NAMES: Names = {};

type Line = M["Segment"];
const NONE: Line[] = [];
const WAYS = {
  things: "segments",
  text: (s: Line) => `${s.name} ${s.label} ${s.rule} ${s.used_by.join(" ")}`,
  columns: {
    name: (s: Line) => s.name,
    count: (s: Line) => s.count,
    chance: (s: Line) => s.chance,
  },
};

export function SegmentList() {
  const { moment } = useTimes();
  const q = useSegments();
  const go = useNavigate();
  const client = useQueryClient();
  const { run, error } = useAction();
  const foot = client.getQueryData<M["Status"]>(keys.status());
  useKeys([{ key: "+", words: "a new segment", act: () => go("/segments/new") }]);
  const drop = async (s: M["Segment"]) => {
    await run(async () => {
      await remove(`/segments/${s.id}`);
      offerUndo({
        words: `“${s.name}” deleted.`,
        undo: async () => {
          await post("/segments", { name: s.name, rule: s.rule, label: s.label });
          await client.invalidateQueries({ queryKey: keys.segments() });
        },
      });
      await client.invalidateQueries({ queryKey: keys.segments() });
    });
  };
  const all = q.data?.segments ?? NONE;
  const labels = [...new Set(all.map((s) => s.label).filter(Boolean))].sort();
  const filters = {
    "all labels": () => true,
    ...Object.fromEntries(labels.map((l) => [l, (s: Line) => s.label === l])),
  };
  const { shown: listed, tools, head } = useListed(all, { ...WAYS, filters });
  const rows = useRows(listed.length, (at) => {
    const s = listed[at];
    return s
      ? [
          { words: "Open and edit the rule", act: () => go(`/segments/${s.id}`) },
          {
            words: "Show its subscribers in the table",
            act: () => go(`/subscribers/table?rule=${encodeURIComponent(s.rule)}`),
          },
          {
            words: "Copy",
            act: () => go(`/segments/new?${new URLSearchParams({ name: `${s.name} copy`, rule: s.rule })}`),
          },
          { words: "Delete segment", act: () => drop(s) },
        ]
      : [];
  });
  const acts = (
    <Link className="btn btn-main" to="/segments/new">
      New segment
    </Link>
  );
  if (!q.data)
    return (
      <Page title="Segments" acts={acts}>
        <Waiting error={q.error} what="your segments" />
      </Page>
    );
  return (
    <Page
      title="Segments"
      lead={
        all[0]
          ? `Saved rules, counted just now, as of ${moment(all[0].as_of)}.`
          : "Saved rules that are counted whenever they are used."
      }
      acts={acts}
    >
      {!all.length && (
        <Quiet>
          No segments yet. Write a rule, for example <em>opened at least 4 in 120 days</em>, or save a selection from
          the map.
        </Quiet>
      )}
      <Sentence error={error} />
      {rows.menu}
      {all.length > 0 && (
        <>
          {tools}
          {!listed.length && <Quiet>No segment matches.</Quiet>}
          <Table label="Segments">
            <thead>
              <tr>
                {head("name", "Segment", { className: "w-[220px]" })}
                <th scope="col">Rule</th>
                <th scope="col" className="w-[150px]">
                  Bands
                </th>
                {head("count", "Subscribers", { n: true, className: "w-[96px]" })}
                <th scope="col" className="n w-[70px]">
                  Share
                </th>
                {head("chance", "Expected", {
                  n: true,
                  className: "w-[84px]",
                  title: "expected to engage with the next message",
                })}
                <th scope="col" className="w-[150px]">
                  Used in
                </th>
                <th scope="col" className="w-8">
                  <span className="sr-only">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {listed.map((s, i) => (
                <tr key={s.id} className={i === rows.at ? "bg-cornflower-pale" : ""}>
                  <td>
                    <Link to={`/segments/${s.id}`} className="font-semibold hover:underline">
                      {s.name}
                    </Link>
                    {s.label && <div className="text-small text-ink-2">{s.label}</div>}
                  </td>
                  <td className="text-ink-2">{s.problem ? <span className="text-poppy">{s.problem}</span> : s.rule}</td>
                  <td className="pt-2.5!">{s.count !== null && <BandBar bands={s.bands} height={10} />}</td>
                  <td className="n font-semibold">{s.count === null ? "–" : count(s.count)}</td>
                  <td className="n text-ink-2">{s.count === null || !foot ? "" : share(s.count, foot.subscribers)}</td>
                  <td className="n">{s.chance === null ? "–" : share(s.chance, 1, 0)}</td>
                  <td className="text-ink-2" title={s.used_by.join(", ")}>
                    {s.used_by.length > 2 ? `${count(s.used_by.length)} campaigns` : s.used_by.join(", ")}
                  </td>
                  <td className="n">
                    <button
                      type="button"
                      className="text-ink-3 hover:text-poppy"
                      aria-label={`Delete ${s.name}`}
                      title="Remove"
                      onClick={() => drop(s)}
                    >
                      ×
                    </button>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
        </>
      )}
    </Page>
  );
}
