import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { count, points, share } from "../../logic/format";
import { Page } from "../../parts/page";
import { Table } from "../../parts/table";
import { Quiet, Waiting } from "../../parts/waiting";

const MOST = 0.6; // where the scale of shares ends
const VERDICT: Record<string, [string, string]> = {
  yes: ["paid", "text-clover"],
  harm: ["negative", "text-poppy"],
  "not significant": ["not significant", "text-ink-2"],
};

/** Over all campaigns: which resends, hours, sizes and subjects paid here, with intervals and no more than is shown. */
export function WhatWorksPage() {
  const q = useQuery({ queryKey: keys.benchmarks(), queryFn: () => get("/campaigns/benchmarks") });
  const d = q.data;
  const acts = (
    <Link className="btn" to="/campaigns">
      All campaigns
    </Link>
  );
  if (!d)
    return (
      <Page title="What works" acts={acts}>
        <Waiting error={q.error} what="all campaigns" />
      </Page>
    );
  return (
    <Page
      title="What works"
      acts={acts}
      lead={`From ${count(d.mailings)} finished campaigns of the last 18 months to 100 people or more.`}
    >
      <h2 className="mb-1">Resends compared with a random holdout group</h2>
      {!d.resends.lines.length ? (
        <Quiet>No resend with a holdout group has been sent yet, so the uplift of resends is unknown.</Quiet>
      ) : (
        <Table label="Resends compared with a holdout group" className="max-w-[980px]">
          <thead>
            <tr>
              <th scope="col">Variant</th>
              <th scope="col" className="n">
                People
              </th>
              <th scope="col" className="n">
                Engaged
              </th>
              <th scope="col" className="n">
                Holdout engaged
              </th>
              <th scope="col" className="n">
                Difference, 95%
              </th>
              <th scope="col" className="n">
                Unsubscribed
              </th>
              <th scope="col">Result</th>
            </tr>
          </thead>
          <tbody>
            {d.resends.lines.map((a) => (
              <tr key={a.variant}>
                <td className="font-semibold">{a.variant}</td>
                <td className="n">{count(a.people)}</td>
                <td className="n">{share(a.engaged, a.people)}</td>
                <td className="n">
                  {share(a.holdout_engaged, a.holdout)} of {count(a.holdout)}
                </td>
                <td className="n">
                  {points(a.difference)}
                  <span className="block text-small text-ink-2">
                    {points(a.low)} to {points(a.high)}
                  </span>
                </td>
                <td className="n">{share(a.unsubscribed, a.people, 2)}</td>
                <td className={`font-semibold ${VERDICT[a.verdict]?.[1]}`}>{VERDICT[a.verdict]?.[0]}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
      <p className="mt-2">{d.resends.sentence}</p>
      {d.kinds.map((k) => (
        <section key={k.title}>
          <h2 className="mt-7 mb-1">{k.title}</h2>
          <Table label={k.title} className="max-w-[820px]">
            <thead>
              <tr>
                <th scope="col"> </th>
                <th scope="col" className="n">
                  Campaigns
                </th>
                <th scope="col" className="n">
                  Delivered
                </th>
                <th scope="col" className="n">
                  Opens (human)
                </th>
                <th scope="col" className="n" title="engaged, as a share of what these people were expected to do">
                  To expected
                </th>
                <th scope="col" className="w-[240px]">
                  Range of open rates, 0 to {100 * MOST}%
                </th>
              </tr>
            </thead>
            <tbody>
              {k.lines.map((l) => (
                <tr key={l.words} className={l.enough ? "" : "text-ink-3"}>
                  <td>{l.words}</td>
                  <td className="n">{count(l.mailings)}</td>
                  <td className="n">{count(l.delivered)}</td>
                  <td className="n">{share(l.share, 1)}</td>
                  <td className="n font-semibold">{l.ratio === null ? "–" : share(l.ratio, 1, 0)}</td>
                  <td>
                    <Range l={l} />
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
          {k.lines.length === 1 && (
            <p className="mt-1 text-small text-ink-2">
              All campaigns fall into this group, so there is nothing to compare.
            </p>
          )}
        </section>
      ))}
      {d.kinds.length > 0 && (
        <p className="mt-2 max-w-[820px] text-small text-ink-2">
          To expected: how many engaged, of 100 expected to from each person's chance before the campaign, so that
          different audiences can be compared. Content still differs, so this is not proof: run an A/B test to be sure.
          Grey: fewer than three campaigns.
        </p>
      )}
    </Page>
  );
}

function Range({ l }: { l: M["Comparison"] }) {
  const x = (v: number) => 240 * Math.min(1, v / MOST);
  return (
    <svg
      width={240}
      height={14}
      role="img"
      aria-label={`${share(l.least, 1)} to ${share(l.most, 1)}, together ${share(l.share, 1)}`}
      className="block"
    >
      <path d="M0 7.5H240" stroke="var(--color-rule)" />
      <rect
        x={x(l.least)}
        y={5}
        width={Math.max(2, x(l.most) - x(l.least))}
        height={5}
        fill="var(--color-rule-strong)"
      />
      <rect x={x(l.share) - 1.5} y={1} width={3} height={13} fill="var(--color-cornflower)" />
    </svg>
  );
}
