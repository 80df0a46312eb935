import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { get, type M, put, remove } from "../../api/client";
import { moment } from "../../logic/format";
import { Ask, Page, Quiet, Sentence, Waiting } from "../../parts/basics";
import { May } from "../../parts/may";
import { useMe } from "../../parts/me";
import { ChoosePicture } from "./blocks";
import { RichText } from "./rich-text";

/** Once for all campaigns: logo, colours, small print, postal address, a second pair of eyes; and the templates. */
export function FramePage() {
  const me = useMe();
  const client = useQueryClient();
  const q = useQuery({ queryKey: ["frame"], queryFn: () => get("/frame") });
  const templates = useQuery({ queryKey: ["templates"], queryFn: () => get("/templates") });
  const [f, setF] = useState<M["Frame"] | null>(null);
  const [error, setError] = useState<Error | null>(null);
  const [said, setSaid] = useState("");
  useEffect(() => {
    if (q.data && !f) setF(q.data);
  }, [q.data, f]);
  const analyst = me.role === "analyst";
  if (!f)
    return (
      <Page title="Frame and templates">
        <Waiting error={q.error} what="the frame" />
      </Page>
    );
  const change = (v: Partial<M["Frame"]>) => {
    setSaid("");
    setF({ ...f, ...v });
  };
  return (
    <Page
      title="Frame and templates"
      lead="What stands around every message that is written by blocks. Drafts get a change at once; what was sent stays as it was."
      acts={
        <Link className="btn" to="/campaigns">
          All campaigns
        </Link>
      }
      side={
        <>
          <h2 className="mb-1">Templates</h2>
          {!templates.data?.templates.length && (
            <Quiet>None yet. Keep one from a campaign's Message page; the next campaign can begin from it.</Quiet>
          )}
          {templates.data?.templates.map((t) => (
            <div key={t.id} className="flex items-baseline justify-between gap-3 border-t border-rule py-2">
              <span>
                <b>{t.name}</b>
                <span className="block text-[13px] text-ink-2">
                  {t.subject || "no subject"}, kept by {t.who}, {moment(t.made_at)}
                </span>
              </span>
              <Ask
                trigger={
                  <button type="button" className="btn btn-bare py-0" aria-label={`Remove template ${t.name}`}>
                    Remove…
                  </button>
                }
                title={`Remove “${t.name}”?`}
                words="Remove it"
                grave
                act={async () => {
                  await remove(`/templates/${t.id}`);
                  await client.invalidateQueries({ queryKey: ["templates"] });
                }}
              >
                Campaigns begun from it keep what they say.
              </Ask>
            </div>
          ))}
        </>
      }
    >
      <May to="write">
        <div className="max-w-[720px]">
          <h2 className="mb-1">Logo</h2>
          <div className="mb-4 grid grid-cols-[180px_1fr] gap-4">
            <div className="flex min-h-[72px] items-center justify-center rounded border border-rule bg-wash">
              {f.logo ? (
                <img src={f.logo} alt={f.logo_alt} className="max-h-[100px] max-w-full" />
              ) : (
                <span className="text-[13px] text-ink-2">no logo</span>
              )}
            </div>
            <div>
              <ChoosePicture name="The logo" chosen={(p) => change({ logo: p.url })} />
              <label className="mt-2 block">
                <span className="label">Alternative text</span>
                <input className="field" value={f.logo_alt} onChange={(e) => change({ logo_alt: e.target.value })} />
              </label>
              {f.logo && (
                <button type="button" className="btn btn-bare mt-1 py-0" onClick={() => change({ logo: "" })}>
                  Without a logo
                </button>
              )}
            </div>
          </div>
          <div className="mb-4 grid grid-cols-2 gap-4">
            <label>
              <span className="label">Colour of buttons and links</span>
              <span className="flex gap-2">
                <input
                  type="color"
                  aria-label="Colour of buttons and links, chosen"
                  value={f.colour}
                  onChange={(e) => change({ colour: e.target.value })}
                />
                <input
                  className="field w-[120px]!"
                  value={f.colour}
                  onChange={(e) => change({ colour: e.target.value })}
                />
              </span>
            </label>
            <label>
              <span className="label">Paper</span>
              <span className="flex gap-2">
                <input
                  type="color"
                  aria-label="Paper, chosen"
                  value={f.paper}
                  onChange={(e) => change({ paper: e.target.value })}
                />
                <input
                  className="field w-[120px]!"
                  value={f.paper}
                  onChange={(e) => change({ paper: e.target.value })}
                />
              </span>
            </label>
          </div>
          <span className="label">Small print under every message</span>
          <RichText
            value={f.footer ?? ""}
            set={(footer) => change({ footer })}
            label="Small print"
            fields={["preferences_url", "unsubscribe_url", "view_url"]}
            disabled={!analyst}
          />
          <label className="mt-4 block">
            <span className="label">Postal address, which the law wants in every mailing</span>
            <input
              className="field"
              value={f.postal_address}
              onChange={(e) => change({ postal_address: e.target.value })}
            />
          </label>
          <label className="mt-4 flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={f.second_pair}
              onChange={(e) => change({ second_pair: e.target.checked })}
            />
            A second pair of eyes: somebody else must approve a campaign before it starts
          </label>
          <label className="mt-2 flex items-baseline gap-2">
            <input type="checkbox" checked={f.tell_back} onChange={(e) => change({ tell_back: e.target.checked })} />
            Tracked links carry a mark (meadow=…), with which your shop tells back what was booked
          </label>
          <label className="mt-2 flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={f.hidden_link}
              onChange={(e) => change({ hidden_link: e.target.checked })}
            />
            Tracked messages hold a link that nobody sees: who follows it is a machine, and its clicks do not count
          </label>
          <Sentence error={error} />
          {analyst && (
            <p className="mt-4 flex items-center gap-3">
              <button
                type="button"
                className="btn btn-main"
                onClick={async () => {
                  setError(null);
                  try {
                    setF(await put("/frame", f));
                    setSaid("Kept. Drafts written by blocks have it now.");
                    await client.invalidateQueries();
                  } catch (e) {
                    setError(e as Error);
                  }
                }}
              >
                Keep
              </button>
              {said && (
                <span role="status" className="text-clover">
                  {said}
                </span>
              )}
            </p>
          )}
        </div>
      </May>
    </Page>
  );
}
