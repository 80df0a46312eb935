import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { get, type M } from "../../api/client";
import { count, points, share } from "../../logic/format";
import { Page, Quiet, Waiting } from "../../parts/basics";

const MOST = 0.6; // where the scale of shares ends
const VERDICT: Record<string, [string, string]> = {
  yes: ["paid", "text-clover"],
  harm: ["did harm", "text-poppy"],
  "not shown": ["not shown", "text-ink-2"],
};

/** Over all campaigns: which resends, hours, sizes and subjects paid here, with intervals and no more than is shown. */
export function WhatWorksPage() {
  const q = useQuery({ queryKey: ["what-works"], queryFn: () => get("/campaigns/what-works") });
  const d = q.data;
  const acts = (
    <Link className="btn" to="/campaigns">
      All campaigns
    </Link>
  );
  if (!d)
    return (
      <Page title="What works here" acts={acts}>
        <Waiting error={q.error} what="all campaigns" />
      </Page>
    );
  return (
    <Page
      title="What works here"
      acts={acts}
      lead={`From ${count(d.mailings)} settled mailings of the last 18 months to 100 people or more.`}
    >
      <h2 className="mb-1">Resends, against people held back by lot</h2>
      {!d.resends.lines.length ? (
        <Quiet>No resend with people held back has gone out yet, so nothing is known of what resends add here.</Quiet>
      ) : (
        <table className="lined max-w-[980px]">
          <thead>
            <tr>
              <th>Arm</th>
              <th className="n">People</th>
              <th className="n">Answered</th>
              <th className="n">Held back answered</th>
              <th className="n">Difference, 95%</th>
              <th className="n">Unsubscribed</th>
              <th>Verdict</th>
            </tr>
          </thead>
          <tbody>
            {d.resends.lines.map((a) => (
              <tr key={a.arm}>
                <td className="font-semibold">{a.arm}</td>
                <td className="n">{count(a.people)}</td>
                <td className="n">{share(a.answered, a.people)}</td>
                <td className="n">
                  {share(a.held_answered, a.held)} of {count(a.held)}
                </td>
                <td className="n">
                  {points(a.difference)}
                  <span className="block text-[13px] text-ink-2">
                    {points(a.low)} to {points(a.high)}
                  </span>
                </td>
                <td className="n">{share(a.unsubscribed, a.people, 2)}</td>
                <td className={`font-semibold ${VERDICT[a.verdict]?.[1]}`}>{VERDICT[a.verdict]?.[0]}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <p className="mt-2">{d.resends.sentence}</p>
      {d.kinds.map((k) => (
        <section key={k.title}>
          <h2 className="mt-7 mb-1">{k.title}</h2>
          <table className="lined max-w-[820px]">
            <thead>
              <tr>
                <th> </th>
                <th className="n">Mailings</th>
                <th className="n">Delivered</th>
                <th className="n">Opened by people</th>
                <th className="w-[260px]">Least to most opened, 0 to {100 * MOST}%</th>
              </tr>
            </thead>
            <tbody>
              {k.lines.map((l) => (
                <tr key={l.words} className={l.enough ? "" : "text-ink-3"}>
                  <td>{l.words}</td>
                  <td className="n">{count(l.mailings)}</td>
                  <td className="n">{count(l.delivered)}</td>
                  <td className="n">{share(l.share, 1)}</td>
                  <td>
                    <Range l={l} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {k.lines.length === 1 && (
            <p className="mt-1 text-[13px] text-ink-2">All of them fall here, so there is nothing to set beside it.</p>
          )}
        </section>
      ))}
      {d.kinds.length > 0 && (
        <p className="mt-2 max-w-[820px] text-[13px] text-ink-2">
          These lines hold different people and different news, so they are no comparison: a reason to try something by
          lot, not a finding. Grey: fewer than three mailings.
        </p>
      )}
    </Page>
  );
}

function Range({ l }: { l: M["WorksLine"] }) {
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
