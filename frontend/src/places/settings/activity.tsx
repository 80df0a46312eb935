import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { get } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { TakeBack } from "../../parts/undo";
import { Waiting } from "../../parts/waiting";

/** Who did what, when, to how many; what can be undone can be undone here for ever. */
export function ActivitySection() {
  const { moment } = useTimes();
  const [text, setText] = useState("");
  const log = useQuery({ queryKey: keys.activity(), queryFn: () => get("/activity") });
  if (!log.data) return <Waiting error={log.error} what="the activity log" />;
  const shown = log.data.actions.filter((d) =>
    `${d.who} ${d.act} ${d.what}`.toLowerCase().includes(text.toLowerCase()),
  );
  return (
    <>
      <div className="mb-2 flex items-center justify-between gap-4">
        <h2>Activity log</h2>
        <input
          className="field w-[220px]!"
          type="search"
          placeholder="Search the newest 500"
          aria-label="Search the activity log"
          value={text}
          onChange={(e) => setText(e.target.value)}
        />
      </div>
      <Table label="Activity log" className="table-fixed max-phone:table-auto">
        <thead>
          <tr>
            <th scope="col" className="w-[128px]">
              When
            </th>
            <th scope="col" className="w-[104px]">
              Who
            </th>
            <th scope="col" className="w-[150px]">
              Action
            </th>
            <th scope="col">Item</th>
            <th scope="col" className="n w-[62px]">
              People
            </th>
            <th scope="col" className="w-[96px]">
              <span className="sr-only">Undo</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((d) => (
            <tr key={d.id}>
              <td className="whitespace-nowrap text-ink-2">{moment(d.at)}</td>
              <td className="truncate" title={d.who}>
                {d.who}
              </td>
              <td>{d.act}</td>
              <td className="text-ink-2 [overflow-wrap:anywhere]">{d.what}</td>
              <td className="n">{d.people ? count(d.people) : ""}</td>
              <td className="n">
                <TakeBack d={d} />
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {shown.length === 0 && <p className="py-3 text-ink-2">No entries match “{text}”.</p>}
    </>
  );
}
