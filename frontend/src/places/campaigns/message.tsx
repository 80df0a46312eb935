import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { get, type M, put } from "../../api/client";
import { keys } from "../../api/keys";
import { htmlOf } from "../../logic/html-file";
import { useAction } from "../../parts/action";
import { useLater } from "../../parts/later";
import { May } from "../../parts/may";
import { Page } from "../../parts/page";
import { offerUndo } from "../../parts/undo-offer";
import { Sentence } from "../../parts/waiting";
import type { Block } from "./block";
import { Blocks } from "./blocks";
import type { CampaignProps } from "./campaign";
import { MessagePreview } from "./message-preview";
import { filled } from "./rich-text";
import { SubjectPast } from "./subject-past";
import { ChangeBar, KeepTemplate, VersionList, VersionTabs } from "./versions";

const TEXTS = ["subject", "preview", "from_name", "html", "plain"] as const;
type Texts = Record<(typeof TEXTS)[number], string>;
type Part = "blocks" | "html" | "plain";

const MOST_UNDONE = 50;

const textsOf = (c: M["Campaign"], version: number): Texts => {
  const v = version ? c.versions.find((x) => x.n === version) : undefined;
  const of = v ?? c;
  return { subject: of.subject, preview: of.preview, from_name: c.from_name, html: of.html, plain: of.plain };
};

export function MessagePage({ c, head, write, set }: CampaignProps) {
  const draft = c.state === "draft";
  const under = ["scheduled", "sending", "paused"].includes(c.state);
  const [version, setVersion] = useState(0); // 0: what is said now
  const [changing, setChanging] = useState(false);
  const [t, setT] = useState<Texts>(textsOf(c, 0));
  const [part, setPart] = useState<Part>(c.blocks || !c.html.trim() ? "blocks" : "html");
  const { run, error } = useAction();
  const [notRead, setNotRead] = useState<Error | null>(null);
  const [kept, setKept] = useState(0);
  const area = useRef<HTMLTextAreaElement>(null);
  const from = useQuery({ queryKey: keys.senders(), queryFn: () => get("/senders") });
  const open = draft || (under && changing);
  const other = draft && version === 2;
  const byBlocks = !!c.blocks && !version;
  const keep = (values: M["CampaignIn"]) =>
    run(async () => {
      if (other) set(await put(`/campaigns/${c.id}/other-version`, values));
      else await write(values);
      setKept((k) => k + 1);
    });
  const saved = useLater(keep, 500);
  const later = (values: M["CampaignIn"]) => {
    if (draft) saved.later(values); // a campaign under way keeps nothing before "Change it"
  };
  const change = (name: keyof Texts, value: string) => {
    setT((old) => ({ ...old, [name]: value }));
    later({ [name]: value });
  };
  const [blocks, setBlocks] = useState<Block[]>((c.blocks as Block[] | null) ?? []);
  const past = useRef<Block[][]>([]); // what the blocks were before each change, for Undo
  const changeBlocks = (next: Block[], back = false) => {
    if (!back) past.current = [...past.current.slice(-MOST_UNDONE), blocks];
    setBlocks(next);
    later({ blocks: next });
  };
  const undoBlocks = () => {
    const before = past.current.pop();
    if (before) changeBlocks(before, true);
  };
  useEffect(() => {
    if (!c.plain_edited && draft && !other)
      setT((old) => ({ ...old, plain: c.plain, ...(c.blocks ? { html: c.html } : {}) }));
  }, [c.plain, c.plain_edited, c.html, c.blocks, draft, other]);
  useEffect(() => {
    if (!draft && !changing) setT(textsOf(c, version));
  }, [c, draft, changing, version]);
  const show = (n: number) => {
    saved.flush();
    setVersion(n);
    setT(textsOf(c, n));
    if (n && part === "blocks") setPart("html");
  };
  const take = async (file: File) => {
    const found = htmlOf(file.name, file.size, await file.text());
    setNotRead("problem" in found ? new Error(found.problem) : null);
    if ("problem" in found) return;
    const before = t.html;
    change("html", found.html);
    if (before.trim()) offerUndo({ words: `HTML replaced by ${file.name}.`, undo: async () => change("html", before) });
  };
  const insert = (field: string) => {
    if (part === "blocks") return;
    const at = area.current?.selectionStart ?? t[part].length;
    change(part, t[part].slice(0, at) + filled(field) + t[part].slice(at));
  };
  const addresses = (from.data?.domains ?? []).flatMap((d) => d.addresses.map((a) => ({ ...a, state: d.state })));
  const parts: [Part, string][] = [
    ...(byBlocks || (draft && !version && !c.html.trim()) ? ([["blocks", "Blocks"]] as [Part, string][]) : []),
    ...(byBlocks && open ? [] : ([["html", "HTML"]] as [Part, string][])),
    ["plain", `Plain-text version ${c.plain_edited ? "(edited)" : "(automatic)"}`],
  ];
  return (
    <Page
      {...head}
      acts={
        <May to="write">
          <KeepTemplate c={c} />
        </May>
      }
      lead={
        draft
          ? kept
            ? "Saved automatically."
            : undefined
          : changing
            ? "Changes apply only to recipients who have not been mailed yet."
            : "This version has been sent. You can still change it for the remaining recipients."
      }
      side={<MessagePreview c={c} version={version} fromName={t.from_name} />}
    >
      <May to="write">
        <Sentence error={notRead ?? error} />
        <VersionTabs c={c} version={version} show={show} set={set} />
        {under && (
          <ChangeBar
            c={c}
            changing={changing}
            texts={{
              subject: t.subject,
              preview: t.preview,
              plain: t.plain === c.plain ? null : t.plain,
              ...(byBlocks ? { blocks } : { html: t.html }),
            }}
            begin={() => {
              show(0);
              setPart(byBlocks ? "blocks" : "html");
              setChanging(true);
            }}
            end={() => {
              setChanging(false);
              setBlocks((c.blocks as Block[] | null) ?? []);
            }}
          />
        )}
        {draft && (
          <div className="mb-3 grid grid-cols-3 gap-x-4 gap-y-3 max-tablet:grid-cols-1">
            <label>
              <span className="label">Purpose</span>
              <select
                className="field"
                aria-label="Purpose"
                value={c.purpose ?? ""}
                onChange={(e) => keep({ purpose: Number(e.target.value) || null })}
              >
                <option value="">choose…</option>
                {c.purposes.map((p) => (
                  <option key={p.id} value={p.id}>
                    {p.name}
                  </option>
                ))}
              </select>
            </label>
            <label>
              <span className="label">From</span>
              <select
                className="field"
                aria-label="From"
                value={c.from_address ?? ""}
                onChange={(e) => keep({ from_address: Number(e.target.value) || null })}
              >
                <option value="">choose…</option>
                {addresses.map((a) => (
                  <option key={a.id} value={a.id}>
                    {a.address}
                    {a.usable ? "" : a.confirmed_at ? " (its domain fails the checks)" : " (not confirmed)"}
                  </option>
                ))}
              </select>
            </label>
            <label>
              <span className="label">From name</span>
              <input className="field" value={t.from_name} onChange={(e) => change("from_name", e.target.value)} />
            </label>
          </div>
        )}
        <div className="grid grid-cols-2 gap-x-4 gap-y-3 max-tablet:grid-cols-1">
          <label>
            <span className="label">
              Subject <span className="text-ink-3">{t.subject.length} characters; phones show about 40</span>
            </span>
            <input
              className="field"
              disabled={!open}
              value={t.subject}
              onChange={(e) => change("subject", e.target.value)}
            />
          </label>
          <label>
            <span className="label">
              Preview text <span className="text-ink-3">{t.preview.length} characters; 40 to 100 are shown</span>
            </span>
            <input
              className="field"
              disabled={!open}
              value={t.preview}
              onChange={(e) => change("preview", e.target.value)}
            />
          </label>
        </div>
        {open && <SubjectPast subject={t.subject} />}
        {draft && !version && (
          <label className="mt-3 block max-w-[420px]">
            <span className="label">
              Reply-to <span className="text-ink-3">empty: the from address</span>
            </span>
            <input
              className="field"
              type="email"
              defaultValue={c.reply_to}
              placeholder={c.from_text}
              onBlur={(e) => e.target.value.trim() !== c.reply_to && keep({ reply_to: e.target.value.trim() })}
            />
          </label>
        )}
        <div className="mt-4 mb-1 flex flex-wrap items-end justify-between gap-x-4 gap-y-1">
          <div className="flex gap-4" role="tablist" aria-label="Body">
            {parts.map(([p, words]) => (
              <button
                key={p}
                type="button"
                role="tab"
                aria-selected={part === p}
                data-on={part === p}
                className="tab pb-1!"
                onClick={() => setPart(p)}
              >
                {words}
              </button>
            ))}
          </div>
          {open && part === "html" && (
            <label className="btn ml-auto h-[31px] cursor-pointer focus-within:outline-2 focus-within:outline-cornflower">
              Upload HTML…
              <input
                type="file"
                accept=".html,.htm,text/html"
                className="sr-only"
                aria-label="HTML from a file"
                onChange={(e) => {
                  const chosen = e.target.files?.[0];
                  if (chosen) take(chosen);
                  e.target.value = "";
                }}
              />
            </label>
          )}
          {open && part !== "blocks" && (
            <select
              className="field w-auto! py-0.5"
              aria-label="Insert a merge field"
              value=""
              onChange={(e) => e.target.value && insert(e.target.value)}
            >
              <option value="">Insert a merge field…</option>
              {c.fields.map((f) => (
                <option key={f}>{f}</option>
              ))}
            </select>
          )}
          {open && part === "blocks" && past.current.length > 0 && (
            <button type="button" className="btn btn-bare py-0 text-small" onClick={undoBlocks}>
              Undo last change
            </button>
          )}
          {draft && part === "blocks" && byBlocks && (
            <button
              type="button"
              className="btn btn-bare py-0 text-small"
              onClick={() => {
                setPart("html");
                keep({ html: c.html });
              }}
            >
              Convert to HTML
            </button>
          )}
        </div>
        {part === "blocks" ? (
          <Blocks campaign={c.id} of={blocks} set={changeBlocks} fields={c.fields} disabled={!open} />
        ) : (
          <textarea
            ref={area}
            className="field min-h-[300px] font-mono text-small leading-[1.5]"
            style={{ height: "calc(100vh - 430px)" }}
            disabled={!open}
            spellCheck={false}
            aria-label={part === "html" ? "HTML body" : "Plain-text version"}
            value={t[part]}
            onChange={(e) => change(part, e.target.value)}
            placeholder={
              part === "html"
                ? "Paste or write HTML, or use blocks. Leave it empty for a plain-text message."
                : "Generated from the HTML until you edit it."
            }
          />
        )}
        {draft && !version && (
          <p className="mt-3 flex flex-wrap gap-x-6 gap-y-1 text-small text-ink-2">
            {(["track_opens", "track_clicks"] as const).map((r) => (
              <label key={r} className="flex items-center gap-1.5">
                <input type="checkbox" checked={c[r]} onChange={(e) => keep({ [r]: e.target.checked })} />
                Record {r === "track_opens" ? "opens" : "clicks"}
              </label>
            ))}
            <span>
              {c.links.length} {c.links.length === 1 ? "link" : "links"}
              {c.track_clicks ? ", tracked" : ", not tracked"}. An unsubscribe link and the postal address are added if
              missing.
            </span>
          </p>
        )}
        {!draft && <VersionList c={c} />}
      </May>
    </Page>
  );
}
