import { useQueryClient } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { useKeys } from "../../parts/keys";
import { useListed } from "../../parts/listed";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Sentence } from "../../parts/waiting";

type Line = M["Domain"];
const WAYS = {
  things: "domains",
  text: (d: Line) => `${d.name} ${d.state} ${d.addresses.map((a) => a.address).join(" ")}`,
  columns: {
    name: (d: Line) => d.name,
    state: (d: Line) => d.state,
    wrong: (d: Line) => wrong(d).length,
    addresses: (d: Line) => d.addresses.length,
    checked: (d: Line) => d.checked_at,
  },
};
const wrong = (d: Line) => d.records.filter((r) => r.state === "fail" || r.state === "warning");

/** All sending domains with their addresses and what does not pass. */
export function SendersOverview({ all }: { all: Line[] }) {
  const { moment } = useTimes();
  const go = useNavigate();
  const { shown, tools, head } = useListed(all, WAYS);
  const rows = useRows(shown.length, (i) => {
    const d = shown[i];
    return d ? [{ words: `Open ${d.name}`, act: () => go(`/senders/${d.id}`) }] : [];
  });
  useKeys([{ key: "+", words: "add a domain", act: focusDomain }]);
  return (
    <Page
      title="Senders"
      lead="The domains you send from, with their DNS records and from addresses."
      acts={
        <Link className="btn" to="/senders/relay">
          Relay
        </Link>
      }
    >
      {rows.menu}
      {!all.length ? (
        <Quiet>Add the domain you send from. You get the DNS records to publish, and each one is checked.</Quiet>
      ) : (
        <>
          {tools}
          <Table label="Sending domains">
            <thead>
              <tr>
                {head("name", "Domain")}
                {head("state", "State")}
                {head("wrong", "Records to fix", { n: true })}
                <th scope="col">Which</th>
                {head("addresses", "From addresses", { n: true })}
                {head("checked", "Checked", { n: true })}
              </tr>
            </thead>
            <tbody>
              {shown.map((d, i) => {
                const open = d.addresses.filter((a) => !a.confirmed_at).length;
                return (
                  <tr key={d.id} className={i === rows.at ? "bg-cornflower-pale" : ""}>
                    <td>
                      <Link className="font-semibold hover:underline" to={`/senders/${d.id}`}>
                        {d.name}
                      </Link>
                      <div className="text-small text-ink-2">{d.addresses.map((a) => a.address).join(", ")}</div>
                    </td>
                    <td>
                      <StateTag state={d.state} />
                    </td>
                    <td className="n">{count(wrong(d).length)}</td>
                    <td className="text-ink-2">
                      {wrong(d)
                        .map((r) => r.record)
                        .join(", ")}
                    </td>
                    <td className="n">
                      {count(d.addresses.length)}
                      {open > 0 && <span className="block text-small text-wheat">{count(open)} unconfirmed</span>}
                    </td>
                    <td className="n text-ink-2">{d.checked_at ? moment(d.checked_at) : "not yet"}</td>
                  </tr>
                );
              })}
            </tbody>
          </Table>
        </>
      )}
      <AddDomain />
    </Page>
  );
}

export const focusDomain = () => document.querySelector<HTMLInputElement>('input[aria-label="Domain to add"]')?.focus();

export function AddDomain() {
  const client = useQueryClient();
  const go = useNavigate();
  const { run, error } = useAction();
  return (
    <May to="decide">
      <Form
        className="mt-4"
        act={async (form) => {
          await run(async () => {
            const d = await post("/senders", { name: String(new FormData(form).get("name")) });
            form.reset();
            await client.invalidateQueries({ queryKey: keys.senders() });
            go(`/senders/${d.id}`);
          });
        }}
      >
        <div className="flex max-w-[420px] gap-2">
          <input
            className="field"
            name="name"
            placeholder="news.kestrelquay.example"
            aria-label="Domain to add"
            required
          />
          <button type="submit" className="btn">
            Add domain
          </button>
        </div>
        <Sentence error={error} />
      </Form>
    </May>
  );
}
