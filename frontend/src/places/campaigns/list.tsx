import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useRef } from "react";
import { Link, useNavigate } from "react-router";
import { get, type M, post, remove } from "../../api/client";
import { keys } from "../../api/keys";
import { count, share } from "../../logic/format";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { Form } from "../../parts/form";
import { useKeys } from "../../parts/keys";
import { useListed } from "../../parts/listed";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { useRows } from "../../parts/rows";
import { StateTag } from "../../parts/state-tag";
import { Table } from "../../parts/table";
import { useTimes } from "../../parts/times";
import { offerUndo } from "../../parts/undo-offer";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";

type Line = M["CampaignLine"];
const NONE: Line[] = [];
const ended = (c: Line) => c.state === "finished" || c.state === "stopped";
/** Engaged as a share of expected; null while it is not known. */
const ratio = (c: Line) => (c.engaged === null || !c.expected ? null : c.engaged / c.expected);
const WAYS = {
  things: "campaigns",
  text: (c: Line) => `${c.name} ${c.subject} ${c.purpose} ${c.state}`,
  columns: {
    name: (c: Line) => c.name,
    subject: (c: Line) => c.subject,
    purpose: (c: Line) => c.purpose,
    state: (c: Line) => c.state,
    people: (c: Line) => c.people || null,
    opened: (c: Line) => (c.delivered ? c.opened / c.delivered : null),
    clicked: (c: Line) => (c.delivered ? c.clicked / c.delivered : null),
    ratio,
    started: (c: Line) => c.started_at,
  },
  filters: {
    current: (c: Line) => !c.archived,
    drafts: (c: Line) => c.state === "draft",
    "under way": (c: Line) => !c.archived && !ended(c) && c.state !== "draft",
    ended: (c: Line) => ended(c) && !c.archived,
    archived: (c: Line) => c.archived,
    all: () => true,
  },
};

export function CampaignList() {
  const { moment } = useTimes();
  const q = useQuery({ queryKey: keys.campaigns(), queryFn: () => get("/campaigns") });
  const templates = useQuery({ queryKey: keys.templates(), queryFn: () => get("/templates") });
  const go = useNavigate();
  const client = useQueryClient();
  const field = useRef<HTMLInputElement>(null);
  const { run, error } = useAction();
  useKeys([{ key: "+", words: "new campaign", act: () => field.current?.focus() }]);
  const all = q.data?.campaigns ?? NONE;
  const { shown: listed, tools, head } = useListed(all, WAYS);
  const reread = () => client.invalidateQueries({ queryKey: keys.campaigns() });
  const archive = (c: Line, archived: boolean) =>
    run(async () => {
      await post(`/campaigns/${c.id}/archive`, { archived });
      await reread();
      offerUndo({
        words: `“${c.name}” ${archived ? "archived" : "restored"}.`,
        undo: async () => {
          await post(`/campaigns/${c.id}/archive`, { archived: !archived });
          await reread();
        },
      });
    });
  const rows = useRows(
    listed.length,
    (at) => {
      const c = listed[at];
      return c
        ? [
            ...["Message", "Schedule", ...(c.state === "draft" ? ["Recipients", "Checks"] : ["Results"])].map(
              (words) => ({
                words,
                act: () => go(`/campaigns/${c.id}/${words.toLowerCase()}`),
              }),
            ),
            ...(ended(c) ? [{ words: c.archived ? "Restore" : "Archive", act: () => archive(c, !c.archived) }] : []),
          ]
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
          {all.length > 0 && (
            <optgroup label="from a campaign">
              {all.slice(0, 30).map((c) => (
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
        <>
          {tools}
          {!listed.length && <Quiet>No campaign matches.</Quiet>}
          <Table label="Campaigns">
            <thead>
              <tr>
                {head("name", "Campaign")}
                {head("subject", "Subject")}
                {head("purpose", "Purpose")}
                {head("state", "State")}
                {head("people", "Recipients", { n: true })}
                {head("opened", "Opens (human)", { n: true })}
                {head("clicked", "Clicked", { n: true })}
                {head("ratio", "Of expected", {
                  n: true,
                  title: "people who engaged, as a share of those expected to by their own chances",
                })}
                {head("started", "Started", { n: true })}
                <th scope="col" className="w-[72px]">
                  <span className="sr-only">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {listed.map((c, i) => (
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
                  <td
                    className="n"
                    title={
                      c.expected === null
                        ? "known once nearly all engagement has come"
                        : `${count(c.engaged ?? 0)} engaged, ${count(Math.round(c.expected))} expected`
                    }
                  >
                    {ratio(c) === null ? "–" : share(ratio(c) ?? 0, 1, 0)}
                  </td>
                  <td className="n text-ink-2">{c.started_at ? moment(c.started_at) : "–"}</td>
                  <td className="n">
                    <May to="write">
                      {c.state === "draft" ? (
                        <Ask
                          trigger={
                            <button type="button" className="text-ink-2 text-small underline">
                              Delete
                            </button>
                          }
                          title={`Delete “${c.name}”?`}
                          words="Delete draft"
                          grave
                          act={async () => {
                            await remove(`/campaigns/${c.id}`);
                            await reread();
                          }}
                        >
                          Its message, recipients and schedule are deleted. This cannot be undone.
                        </Ask>
                      ) : (
                        ended(c) && (
                          <button
                            type="button"
                            className="text-ink-2 text-small underline"
                            onClick={() => archive(c, !c.archived)}
                          >
                            {c.archived ? "Restore" : "Archive"}
                          </button>
                        )
                      )}
                    </May>
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
