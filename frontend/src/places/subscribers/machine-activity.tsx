import { useQuery } from "@tanstack/react-query";
import { get, type M } from "../../api/client";
import { keys } from "../../api/keys";
import { count, share } from "../../logic/format";
import { Page } from "../../parts/page";
import { ProviderName } from "../../parts/provider";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Waiting } from "../../parts/waiting";
import { SubscriberTabs } from "./tabs";

/** How much of each provider's opens and clicks are machines', and why they are taken for that. */
export function MachineOpensPage() {
  const { moment } = useTimes();
  const q = useQuery({
    queryKey: keys.machineActivity(),
    queryFn: () => get("/subscribers/machine-activity"),
  });
  const d = q.data;
  const total = (k: "opens" | "clicks") => (d?.reasons ?? []).reduce((sum, r) => sum + r[k], 0);
  return (
    <Page
      title="Subscribers"
      tabs={<SubscriberTabs />}
      lead="How many opens and clicks came from machines such as privacy proxies and link scanners, by provider, and how we can tell."
      side={
        d && (
          <>
            <h2>How machines are detected</h2>
            <Table label="How machines are detected">
              <thead>
                <tr>
                  <th scope="col">Deciding reason</th>
                  <th scope="col" className="n">
                    Opens
                  </th>
                  <th scope="col" className="n">
                    Clicks
                  </th>
                </tr>
              </thead>
              <tbody>
                {d.reasons.map((r) => (
                  <tr key={r.words}>
                    <td className={r.machine ? "" : "text-ink-2"}>{r.words}</td>
                    <td className="n">{count(r.opens)}</td>
                    <td className="n">{count(r.clicks)}</td>
                  </tr>
                ))}
                <tr>
                  <td className="font-semibold">All</td>
                  <td className="n font-semibold">{count(total("opens"))}</td>
                  <td className="n font-semibold">{count(total("clicks"))}</td>
                </tr>
              </tbody>
            </Table>
            <p className="mt-3 text-small text-ink-2">
              {count(d.listed)} user agents and networks are listed. To add your own, put a file <b>machines.json</b>{" "}
              with <span className="font-mono text-small">agents</span> and{" "}
              <span className="font-mono text-small">networks</span> into the data folder. The whole history is then
              classified again and scores are updated.
            </p>
            <p className="mt-3 text-small text-ink-3">As of {moment(d.as_of)}.</p>
          </>
        )
      }
    >
      {!d ? (
        <Waiting error={q.error} what="the opens" />
      ) : !total("opens") && !total("clicks") ? (
        <Quiet>No opens or clicks in the last {d.days} days.</Quiet>
      ) : (
        <>
          <Table label="Machine activity by provider">
            <thead>
              <tr>
                <th scope="col">Provider</th>
                <th scope="col" className="n">
                  Opens, {d.days} days
                </th>
                <th scope="col" className="w-[230px] pl-6!">
                  human or machine
                </th>
                <th scope="col" className="n">
                  machine share
                </th>
                <th scope="col" className="n">
                  Clicks
                </th>
                <th scope="col" className="n">
                  machine share
                </th>
                <th scope="col" className="n">
                  Masked subscribers
                </th>
              </tr>
            </thead>
            <tbody>
              {d.providers.map((p) => (
                <tr key={p.name}>
                  <td className="font-semibold">
                    <ProviderName name={p.name} />
                  </td>
                  <td className="n">{count(p.opens.all)}</td>
                  <td className="pt-3! pl-6!">
                    <Whose of={p.opens} />
                  </td>
                  <td className="n">{share(p.opens.machines, p.opens.all)}</td>
                  <td className="n">{count(p.clicks.all)}</td>
                  <td className="n">{share(p.clicks.machines, p.clicks.all)}</td>
                  <td className="n">
                    {count(p.masked)} <span className="text-ink-3">of {count(p.people)}</span>
                  </td>
                </tr>
              ))}
            </tbody>
          </Table>
          <p className="mt-3 flex gap-5 text-small text-ink-2">
            <span className="inline-flex items-center gap-1.5">
              <span className="inline-block size-3 bg-strong" aria-hidden /> people
            </span>
            <span className="inline-flex items-center gap-1.5">
              <span className="inline-block size-3 bg-steady" aria-hidden /> unsure, counted as human
            </span>
            <span className="inline-flex items-center gap-1.5">
              <span className="dots inline-block size-3" aria-hidden /> machines
            </span>
          </p>
        </>
      )}
    </Page>
  );
}

function Whose({ of }: { of: M["Shares"] }) {
  const people = of.all - of.machines - of.unsure;
  const parts: [string, number, string][] = [
    ["people", people, "bg-strong"],
    ["unsure", of.unsure, "bg-steady"],
    ["machines", of.machines, "dots"],
  ];
  return (
    <span
      role="img"
      aria-label={parts.map(([w, n]) => `${w} ${count(n)}`).join(", ")}
      className="flex h-[9px] w-full overflow-hidden bg-wash"
    >
      {parts.map(([w, n, c]) => n > 0 && <span key={w} className={c} style={{ width: `${(100 * n) / of.all}%` }} />)}
    </span>
  );
}
