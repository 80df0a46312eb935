import { useQuery } from "@tanstack/react-query";
import { get, type M } from "../../api/client";
import { count, share } from "../../logic/format";
import { Page, Waiting } from "../../parts/basics";

/** Providers over 30 days: what was handed over, deferred, bounced and complained about. */
export function HealthPlace() {
  const today = useQuery({ queryKey: ["today"], queryFn: () => get<M["TodayView"]>("/today") });
  if (!today.data)
    return (
      <Page title="Health">
        <Waiting error={today.error} what="the providers" />
      </Page>
    );
  return (
    <Page title="Health" lead="What the mailbox providers did with your mail in the last 30 days, counted from events.">
      <table className="lined max-w-[860px]">
        <thead>
          <tr>
            <th>Provider</th>
            <th className="n">People</th>
            <th className="n">Handed over</th>
            <th className="n">Deferred</th>
            <th className="n">Bounced</th>
            <th className="n">Complained</th>
          </tr>
        </thead>
        <tbody>
          {today.data.providers.map((p) => (
            <tr key={p.name}>
              <td className="font-semibold">{p.name}</td>
              <td className="n">{count(p.people)}</td>
              <td className="n">{count(p.handed_over)}</td>
              <td className="n">
                {count(p.deferred)}{" "}
                <span className="inline-block w-14 text-ink-2">{share(p.deferred, p.handed_over)}</span>
              </td>
              <td className="n">
                {count(p.bounced)}{" "}
                <span className="inline-block w-14 text-ink-2">{share(p.bounced, p.handed_over)}</span>
              </td>
              <td className="n">
                {count(p.complained)}{" "}
                <span className="inline-block w-14 text-ink-2">{share(p.complained, p.handed_over, 2)}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <p className="mt-3 text-ink-2">
        Shares are of the messages handed over to that provider. Limits: deferred 10%, bounced 2%, complained 0.3%.
      </p>
    </Page>
  );
}
