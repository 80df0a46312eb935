import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { get, type M, put, remove } from "../../api/client";
import { changedIn, keys } from "../../api/keys";
import { useAction } from "../../parts/action";
import { Ask } from "../../parts/ask";
import { May } from "../../parts/may";
import { useMe } from "../../parts/me";
import { Page } from "../../parts/page";
import { useTimes } from "../../parts/times";
import { Quiet, Sentence, Waiting } from "../../parts/waiting";
import { ChooseImage } from "./block-parts";
import { RichText } from "./rich-text";

/** Once for all campaigns: logo, colours, small print, postal address, a second pair of eyes; and the templates. */
export function LayoutPage() {
  const { moment } = useTimes();
  const me = useMe();
  const client = useQueryClient();
  const q = useQuery({ queryKey: keys.layout(), queryFn: () => get("/layout") });
  const templates = useQuery({ queryKey: keys.templates(), queryFn: () => get("/templates") });
  const [f, setF] = useState<M["Layout"] | null>(null);
  const { run, error } = useAction();
  const [said, setSaid] = useState("");
  useEffect(() => {
    if (q.data && !f) setF(q.data);
  }, [q.data, f]);
  const analyst = me.role === "analyst";
  if (!f)
    return (
      <Page title="Layout and templates">
        <Waiting error={q.error} what="the frame" />
      </Page>
    );
  const change = (v: Partial<M["Layout"]>) => {
    setSaid("");
    setF({ ...f, ...v });
  };
  return (
    <Page
      title="Layout and templates"
      lead="Header and footer of all messages written with blocks. Drafts update immediately; sent messages do not change."
      acts={
        <Link className="btn" to="/campaigns">
          All campaigns
        </Link>
      }
      side={
        <>
          <h2 className="mb-1">Templates</h2>
          {!templates.data?.templates.length && (
            <Quiet>No templates yet. Save one from a campaign's Message page and start new campaigns from it.</Quiet>
          )}
          {templates.data?.templates.map((t) => (
            <div key={t.id} className="flex items-baseline justify-between gap-3 border-t border-rule py-2">
              <span>
                <b>{t.name}</b>
                <span className="block text-small text-ink-2">
                  {t.subject || "no subject"}, saved by {t.who}, {moment(t.made_at)}
                </span>
              </span>
              <Ask
                trigger={
                  <button type="button" className="btn btn-bare py-0" aria-label={`Delete template ${t.name}`}>
                    Delete…
                  </button>
                }
                title={`Delete “${t.name}”?`}
                words="Delete template"
                grave
                act={async () => {
                  await remove(`/templates/${t.id}`);
                  await client.invalidateQueries({ queryKey: keys.templates() });
                }}
              >
                Existing campaigns do not change.
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
                <span className="text-small text-ink-2">no logo</span>
              )}
            </div>
            <div>
              <ChooseImage name="The logo" chosen={(p) => change({ logo: p.url })} />
              <label className="mt-2 block">
                <span className="label">Alternative text</span>
                <input className="field" value={f.logo_alt} onChange={(e) => change({ logo_alt: e.target.value })} />
              </label>
              {f.logo && (
                <button type="button" className="btn btn-bare mt-1 py-0" onClick={() => change({ logo: "" })}>
                  Remove logo
                </button>
              )}
            </div>
          </div>
          <div className="mb-4 grid grid-cols-2 gap-4">
            <label>
              <span className="label">Accent colour</span>
              <span className="flex gap-2">
                <input
                  type="color"
                  aria-label="Accent colour, chosen"
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
              <span className="label">Background</span>
              <span className="flex gap-2">
                <input
                  type="color"
                  aria-label="Background, chosen"
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
          <span className="label">Footer text</span>
          <RichText
            value={f.footer ?? ""}
            set={(footer) => change({ footer })}
            label="Footer text"
            fields={["preferences_url", "unsubscribe_url", "view_url"]}
            disabled={!analyst}
          />
          <label className="mt-4 block">
            <span className="label">Postal address (legally required in every message)</span>
            <input
              className="field"
              value={f.postal_address}
              onChange={(e) => change({ postal_address: e.target.value })}
            />
          </label>
          <label className="mt-4 flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={f.require_approval}
              onChange={(e) => change({ require_approval: e.target.checked })}
            />
            Require approval by a second person before a campaign starts
          </label>
          <label className="mt-2 flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={f.conversion_id}
              onChange={(e) => change({ conversion_id: e.target.checked })}
            />
            Add a tracking ID (meadow=…) to links so that your shop can report bookings
          </label>
          <label className="mt-2 flex items-baseline gap-2">
            <input
              type="checkbox"
              checked={f.hidden_link}
              onChange={(e) => change({ hidden_link: e.target.checked })}
            />
            Add a hidden link to tracked messages: only machines follow it, and their clicks do not count
          </label>
          <Sentence error={error} />
          {analyst && (
            <p className="mt-4 flex items-center gap-3">
              <button
                type="button"
                className="btn btn-main"
                onClick={async () => {
                  await run(async () => {
                    setF(await put("/layout", f));
                    setSaid("Saved and applied to drafts.");
                    await changedIn(client, "campaigns");
                  });
                }}
              >
                Save layout
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
