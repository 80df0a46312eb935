import { useQuery } from "@tanstack/react-query";
import { get } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";

/** Mail to the intake that led to nothing, by reason: forged, malformed, about other domains. */
export function IntakeAside() {
  const { moment } = useTimes();
  const q = useQuery({ queryKey: keys.intake(), queryFn: () => get("/intake") });
  const d = q.data;
  if (!d || (!d.reasons.length && !d.waiting)) return null;
  return (
    <>
      <h2 className="mt-8 mb-1">Mail set aside</h2>
      <p className="mb-2 max-w-[72ch] text-ink-2">
        Returned mail is processed only with a return path or Message-ID signed here. The rest is counted, stored for a
        while and ignored.{d.waiting ? ` ${count(d.waiting)} are queued.` : ""}
      </p>
      <Table label="Mail set aside">
        <thead>
          <tr>
            <th scope="col">Reason</th>
            <th scope="col" className="n">
              Messages
            </th>
            <th scope="col">Last</th>
          </tr>
        </thead>
        <tbody>
          {d.reasons.map((r) => (
            <tr key={r.reason}>
              <td>{r.reason}</td>
              <td className="n">{count(r.n)}</td>
              <td className="whitespace-nowrap">{moment(r.last)}</td>
            </tr>
          ))}
        </tbody>
      </Table>
    </>
  );
}
