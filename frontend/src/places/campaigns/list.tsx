import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { Link, useNavigate } from "react-router";
import { get, post } from "../../api/client";
import { keys } from "../../api/keys";
import { count, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Form } from "../../parts/form";
import { useKeys } from "../../parts/keys";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";

export function CampaignList() {
  const { moment } = useTimes();
  const q = useQuery({ queryKey: keys.campaigns(), queryFn: () => get("/campaigns") });
  const templates = useQuery({ queryKey: keys.templates(), queryFn: () => get("/templates") });
  const go = useNavigate();
  const client = useQueryClient();
  const field = useRef<HTMLInputElement>(null);
  const { run, error } = useAction();
  useKeys([{ key: "+", words: "new campaign", act: () => field.current?.focus() }]);
  const listed = q.data?.campaigns ?? [];
  const rows = useRows(
    listed.length,
    (at) => {
      const c = listed[at];
      return c
        ? ["Message", "Schedule", ...(c.state === "draft" ? ["Recipients", "Checks"] : ["Results"])].map((words) => ({
            words,
            act: () => go(`/campaigns/${c.id}/${words.toLowerCase()}`),
          }))
        : [];
    },
    (at) => go(`/campaigns/${listed[at]?.id}/message`),
  );
  const acts = (
    <May to="write">
      <Form
        className="flex flex-wrap justify-end gap-2"
        act={async (entered) => {
          await run(async () => {
            const form = new FormData(entered);
            const [kind, id] = String(form.get("from")).split(" ");
            const begin = { name: String(form.get("name") ?? ""), ...(kind ? { [kind]: Number(id) } : {}) };
            const c = await post("/campaigns", begin);
            await client.invalidateQueries({ queryKey: keys.campaigns() });
            go(`/campaigns/${c.id}/message`);
          });
        }}
      >
        <input
          ref={field}
          className="field w-[230px]"
          name="name"
          placeholder="Name of new campaign"
          aria-label="Name of new campaign"
          required
        />
        <select className="field w-[170px]" name="from" aria-label="Start from" defaultValue="">
          <option value="">blank</option>
          {(templates.data?.templates ?? []).length > 0 && (
            <optgroup label="from a template">
              {templates.data?.templates.map((t) => (
                <option key={t.id} value={`template ${t.id}`}>
                  {t.name}
                </option>
              ))}
            </optgroup>
          )}
          {listed.length > 0 && (
            <optgroup label="from a campaign">
              {listed.slice(0, 30).map((c) => (
                <option key={c.id} value={`campaign ${c.id}`}>
                  {c.name}
                </option>
              ))}
            </optgroup>
          )}
        </select>
        <button type="submit" className="btn btn-main">
          Create campaign
        </button>
      </Form>
    </May>
  );
  return (
    <Page
      title="Campaigns"
      lead={
        <>
          Write, check, schedule and read your campaigns.{" "}
          <Link className="text-cornflower underline" to="/campaigns/benchmarks">
            What works
          </Link>{" "}
          ·{" "}
          <Link className="text-cornflower underline" to="/campaigns/layout">
            Layout and templates
          </Link>
        </>
      }
      acts={acts}
    >
      <Sentence error={error} />
      {rows.menu}
      {!q.data ? (
        <Waiting error={q.error} what="your campaigns" />
      ) : !q.data.campaigns.length ? (
        <Quiet>No campaigns yet. Enter a name and create the first.</Quiet>
      ) : (
        <Table label="Campaigns">
          <thead>
            <tr>
              <th scope="col">Campaign</th>
              <th scope="col">Subject</th>
              <th scope="col">Purpose</th>
              <th scope="col">State</th>
              <th scope="col" className="n">
                Recipients
              </th>
              <th scope="col" className="n">
                Opens (human)
              </th>
              <th scope="col" className="n">
                Clicked
              </th>
              <th scope="col" className="n">
                Started
              </th>
            </tr>
          </thead>
          <tbody>
            {q.data.campaigns.map((c, i) => (
              <tr key={c.id} className={i === rows.at ? "bg-cornflower-pale" : ""}>
                <td>
                  <Link
                    className="font-semibold hover:underline"
                    to={`/campaigns/${c.id}/${c.state === "draft" ? "message" : c.state === "finished" ? "results" : "schedule"}`}
                  >
                    {c.name}
                  </Link>
                </td>
                <td className="text-ink-2">{c.subject}</td>
                <td className="text-ink-2">{c.purpose}</td>
                <td>
                  <StateTag state={c.state} />
                </td>
                <td className="n">{c.people ? count(c.people) : "–"}</td>
                <td className="n" title={c.delivered ? `${count(c.opened)} of ${count(c.delivered)} delivered` : ""}>
                  {c.delivered ? share(c.opened, c.delivered) : "–"}
                </td>
                <td className="n" title={c.delivered ? `${count(c.clicked)} of ${count(c.delivered)} delivered` : ""}>
                  {c.delivered ? share(c.clicked, c.delivered) : "–"}
                </td>
                <td className="n text-ink-2">{c.started_at ? moment(c.started_at) : "–"}</td>
              </tr>
            ))}
          </tbody>
        </Table>
      )}
    </Page>
  );
}
