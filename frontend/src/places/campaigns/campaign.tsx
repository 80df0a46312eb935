import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, Navigate, Route, Routes, useLocation, useParams } from "react-router";
import { get, type M, post, put } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { count } from "../../logic/format";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { Page, Tabs } from "../../parts/page";
import { StateTag } from "../../parts/state-tag";
import { Waiting } from "../../parts/waiting";
import { ChecksPage, useChecks } from "./checks";
import { MessagePage } from "./message";
import { RecipientsPage } from "./recipients";
import { ResultsPage } from "./results";
import { PlanPage } from "./schedule";
import { useResults } from "./schedule-running";

export interface CampaignProps {
  c: M["Campaign"];
  head: { title: string; tag: React.ReactNode; tabs: React.ReactNode };
  write: (values: M["CampaignIn"]) => Promise<unknown>;
  set: (c: M["Campaign"]) => void;
  acts: React.ReactNode;
}

/** What decides whom a campaign goes to; recipients worked out for the same are the same. */
export const chosenKey = (c: M["Campaign"]) => [
  c.segments_in,
  c.segments_out,
  c.lists_in,
  c.lists_out,
  c.chosen,
  c.with_sequences,
  c.purpose,
];

export function CampaignPlace() {
  const { id } = useParams();
  const client = useQueryClient();
  const q = useQuery({
    queryKey: keys.campaign(id),
    queryFn: () => get(`/campaigns/${Number(id)}`),
  });
  const r = useQuery({
    queryKey: keys.recipients(id, q.data && chosenKey(q.data)),
    queryFn: () => get(`/campaigns/${Number(id)}/recipients`),
    enabled: q.data?.state === "draft" && !q.data.sequence,
  });
  const checked = useChecks(Number(id), q.data?.state === "draft");
  // asked for beside the campaign itself, as they take longest
  useResults(Number(id), useLocation().pathname.endsWith("/results"));
  if (!q.data)
    return (
      <Page title="Campaign">
        <Waiting error={q.error} what="the campaign" />
      </Page>
    );
  const c = q.data;
  const known = checked.data?.checks ?? c.checks;
  const stops = known.filter((x) => x.level === "blocker" && !x.overridden).length;
  const notes = known.length - stops;
  const draft = c.state === "draft";
  const base = `/campaigns/${id}`;
  const tabs = (
    <Tabs
      of={[
        { to: `${base}/message`, words: "Message" },
        ...(c.sequence
          ? []
          : [{ to: `${base}/recipients`, words: "Recipients", extra: r.data ? count(r.data.count) : "" }]),
        ...(draft
          ? [
              {
                to: `${base}/checks`,
                words: "Checks",
                extra: stops ? (
                  <span className="text-poppy">{stops} to fix</span>
                ) : notes ? (
                  `${notes} ${notes === 1 ? "note" : "notes"}`
                ) : (
                  "all passed"
                ),
              },
            ]
          : []),
        ...(c.sequence ? [] : [{ to: `${base}/schedule`, words: "Schedule" }]),
        ...(draft ? [] : [{ to: `${base}/results`, words: "Results" }]),
      ]}
    />
  );
  const set = (fresh: M["Campaign"]) => {
    client.setQueryData(keys.campaign(id), fresh);
    client.invalidateQueries({ queryKey: keys.schedule(id) });
    client.invalidateQueries({ queryKey: keys.checks(id) });
  };
  const write = async (values: M["CampaignIn"]) => {
    set(await put(`/campaigns/${Number(id)}`, values));
  };
  const again = () => changedIn(client, "campaigns");
  const act = (word: string) => async () => {
    await post(`/campaigns/${Number(id)}/${word}`);
    await again();
  };
  const running = c.state === "scheduled" || c.state === "sending";
  const acts = (
    <May to="decide">
      {running && (
        <Ask
          trigger={
            <button type="button" className="btn btn-grave">
              Pause
            </button>
          }
          title={`Pause ${c.name}?`}
          words="Pause campaign"
          act={act("pause")}
        >
          Sending pauses within a second. No one is skipped; resume whenever you like.
        </Ask>
      )}
      {c.state === "paused" && (
        <button type="button" className="btn btn-main" onClick={act("resume")}>
          Resume
        </button>
      )}
      {(running || c.state === "paused") && !c.sequence && (
        <Ask
          trigger={
            <button type="button" className="btn">
              Stop…
            </button>
          }
          title={`Stop ${c.name}?`}
          words="Stop campaign"
          grave
          act={act("stop")}
        >
          Remaining recipients will not receive this campaign and there will be no resend. This cannot be undone.
        </Ask>
      )}
      {(running || c.state === "paused") && !c.sequence && c.untouched && (
        <Ask
          trigger={
            <button type="button" className="btn">
              Undo start…
            </button>
          }
          title={`Make “${c.name}” a draft again?`}
          words="Undo start"
          act={act("undo-start")}
        >
          Nothing has been sent yet. Its message, recipients and schedule stay as they are and can be changed.
        </Ask>
      )}
    </May>
  );
  const props: CampaignProps = {
    c,
    head: {
      title: c.name,
      tag: c.sequence ? (
        <>
          <StateTag state={c.state} />
          <Link className="font-sans text-[14px] text-cornflower hover:underline" to={`/sequences/${c.sequence.id}`}>
            Back to {c.sequence.name}
          </Link>
        </>
      ) : (
        <StateTag state={c.state} />
      ),
      tabs,
    },
    write,
    set,
    acts,
  };
  return (
    <Routes>
      <Route path="message" element={<MessagePage {...props} />} />
      <Route path="recipients" element={<RecipientsPage {...props} data={r.data} error={r.error} />} />
      <Route path="checks" element={<ChecksPage {...props} />} />
      <Route path="schedule" element={<PlanPage {...props} />} />
      <Route path="results" element={<ResultsPage {...props} />} />
      <Route path="*" element={<Navigate to={draft || c.sequence ? "message" : "schedule"} replace />} />
    </Routes>
  );
}
