import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { count, share } from "../../logic/format";
import { BandBar, BandList } from "../../parts/bands";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Waiting } from "../../parts/waiting";
import { SubscriberTabs } from "./tabs";

/** Every source beside the others: what became of the people who came by it. */
export function SourcesPage() {
  const go = useNavigate();
  const q = useQuery({ queryKey: keys.sources(), queryFn: () => get("/subscribers/sources") });
  const [kind, setKind] = useState("source");
  const listed = (q.data?.sources ?? []).filter((d) => d.kind === kind);
  const imports = (q.data?.sources ?? []).some((d) => d.kind === "import");
  const rows = useRows(listed.length, (i) => {
    const d = listed[i];
    return d?.rule
      ? [
          {
            words: "Show its subscribers in the table",
            act: () => go(`/subscribers/table?rule=${encodeURIComponent(d.rule)}`),
          },
        ]
      : [];
  });
  const one = listed[rows.at];
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="Quality of each sign-up source: list, form or import."
      side={one && <Side d={one} />}
    >
      {!q.data ? (
        <Waiting error={q.error} what="the sources" />
      ) : !q.data.sources.length ? (
        <Quiet>No sources yet. A source is the list, form or import people joined by.</Quiet>
      ) : (
        <>
          {imports && (
            <div className="mb-2 flex gap-4" role="tablist">
              {[
                ["source", "Lists and forms"],
                ["import", "Imports"],
              ].map(([k, words]) => (
                <button
                  key={k}
                  type="button"
                  role="tab"
                  aria-selected={kind === k}
                  className="tab"
                  data-on={kind === k}
                  onClick={() => setKind(k as string)}
                >
                  {words}
                </button>
              ))}
            </div>
          )}
          <Table label="Sources">
            <thead>
              <tr>
                <th scope="col">{kind === "source" ? "Source" : "Import"}</th>
                <th scope="col" className="n">
                  People
                </th>
                <th scope="col" className="w-[130px]">
                  By band
                </th>
                <th scope="col" className="n">
                  Mailed
                </th>
                <th scope="col" className="n">
                  Ever engaged
                </th>
                <th scope="col" className="n">
                  Never engaged
                </th>
                <th scope="col" className="n">
                  Hard bounced
                </th>
                <th scope="col" className="n">
                  Complained
                </th>
                <th scope="col" className="n">
                  Unsubscribed
                </th>
              </tr>
            </thead>
            <tbody>
              {listed.map((d, i) => (
                <tr key={d.name} className={i === rows.at ? "bg-cornflower-pale" : ""}>
                  <td className="max-w-[210px]">
                    {d.rule ? (
                      <Link
                        className="block truncate font-semibold hover:underline"
                        title={d.name}
                        to={`/subscribers/table?rule=${encodeURIComponent(d.rule)}`}
                      >
                        {d.name}
                      </Link>
                    ) : (
                      <span className="block truncate font-semibold" title={d.name}>
                        {d.name}
                      </span>
                    )}
                    {d.signs.length > 0 && <span className="text-small text-poppy">significantly worse</span>}
                  </td>
                  <td className="n">{count(d.people)}</td>
                  <td className="pt-3!">
                    <BandBar bands={d.bands} height={9} />
                  </td>
                  <td className="n">{count(d.mailed)}</td>
                  {(["engaged", "never_engaged", "bounced", "complained", "left"] as const).map((k) => (
                    <td key={k} className={`n ${d.signs.length && d[k] && k !== "engaged" ? "" : "text-ink-2"}`}>
                      {d.mailed ? share(d[k], d.mailed) : "–"}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </Table>
          {rows.menu}
          <p className="mt-2 text-small text-ink-3">
            Rates are of subscribers mailed at least once. “Significantly worse” compares with all other sources at 95%
            confidence. Arrow keys select a source, = opens its actions.
          </p>
        </>
      )}
    </Page>
  );
}

function Side({ d }: { d: M["SourceFigures"] }) {
  const { day } = useTimes();
  return (
    <>
      <h2>{d.name}</h2>
      <p className="mb-3 text-ink-2">
        {count(d.people)} people,{" "}
        {day(d.first) === day(d.last) ? `on ${day(d.first)}` : `${day(d.first)} to ${day(d.last)}`}.
      </p>
      {d.signs.map((s) => (
        <p key={s} className="mb-2 border-l-2 border-poppy pl-3">
          {s}
        </p>
      ))}
      {!d.signs.length && (
        <p className="mb-2 text-ink-2">
          {d.mailed ? "No significant difference from other sources." : "None of them has been mailed yet."}
        </p>
      )}
      <div className="mt-4">
        <BandList bands={d.bands} />
      </div>
      {d.mailed > 0 && (
        <Table label={d.name} className="mt-4">
          <tbody>
            {(
              [
                ["Mailed at least once", d.mailed],
                ["Ever engaged", d.engaged],
                ["5 or more messages, never engaged", d.never_engaged],
                ["Hard bounced", d.bounced],
                ["Complained", d.complained],
                ["Unsubscribed", d.left],
              ] as const
            ).map(([words, n]) => (
              <tr key={words}>
                <td>{words}</td>
                <td className="n">{count(n)}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      {d.rule && (
        <Link className="btn mt-4" to={`/subscribers/table?rule=${encodeURIComponent(d.rule)}`}>
          Show in table
        </Link>
      )}
    </>
  );
}
