import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { get, type M, post } from "../../api/client";
import { Page, Sentence } from "../../parts/basics";
import { useMe } from "../../parts/me";
import type { CampaignProps } from "./campaign";

const TEXTS = ["subject", "preview", "from_name", "html", "plain"] as const;
type Texts = Record<(typeof TEXTS)[number], string>;
const textsOf = (c: M["Campaign"]): Texts => ({
  subject: c.subject,
  preview: c.preview,
  from_name: c.from_name,
  html: c.html,
  plain: c.plain,
});

export function MessagePage({ c, head, write }: CampaignProps) {
  const me = useMe();
  const draft = c.state === "draft";
  const [t, setT] = useState<Texts>(textsOf(c));
  const [view, setView] = useState<"desktop" | "phone" | "plain">("desktop");
  const [part, setPart] = useState<"html" | "plain">("html");
  const [error, setError] = useState<Error | null>(null);
  const [said, setSaid] = useState("");
  const [kept, setKept] = useState(0);
  const timer = useRef(0);
  const pending = useRef<Partial<Texts>>({});
  const area = useRef<HTMLTextAreaElement>(null);
  const from = useQuery({ queryKey: ["senders"], queryFn: () => get<M["Domains"]>("/senders") });
  const preview = useQuery({
    queryKey: ["preview", c.id, c.subject, c.html, c.plain, c.preview],
    queryFn: () => get<M["Preview"]>(`/campaigns/${c.id}/preview`),
    placeholderData: (x) => x,
  });
  const keep = async (values: Record<string, unknown>) => {
    setError(null);
    try {
      await write(values);
      setKept((k) => k + 1);
    } catch (e) {
      setError(e as Error);
    }
  };
  const change = (name: keyof Texts, value: string) => {
    setT((old) => ({ ...old, [name]: value }));
    pending.current = { ...pending.current, [name]: value };
    clearTimeout(timer.current);
    timer.current = window.setTimeout(() => {
      const values = pending.current;
      pending.current = {};
      keep(values);
    }, 500);
  };
  useEffect(() => {
    if (!c.plain_by_hand) setT((old) => ({ ...old, plain: c.plain }));
  }, [c.plain, c.plain_by_hand]);
  const insert = (field: string) => {
    const fill = field === "email" ? "{{ email }}" : `{{ ${field} or "${field.includes("name") ? "friend" : "…"}" }}`;
    const at = area.current?.selectionStart ?? t[part].length;
    change(part, t[part].slice(0, at) + fill + t[part].slice(at));
  };
  const addresses = (from.data?.domains ?? []).flatMap((d) => d.addresses.map((a) => ({ ...a, state: d.state })));
  return (
    <Page
      {...head}
      lead={draft ? (kept ? "Kept as you write." : undefined) : "What was sent; it can no longer be changed."}
      side={
        <>
          <div className="mb-2 flex items-center justify-between">
            <h2>As {preview.data?.person ?? "a recipient"} gets it</h2>
          </div>
          <div className="mb-2 flex gap-4 border-b border-rule" role="tablist" aria-label="Preview">
            {(["desktop", "phone", "plain"] as const).map((v) => (
              <button
                key={v}
                type="button"
                role="tab"
                aria-selected={view === v}
                data-on={view === v}
                className="tab"
                onClick={() => setView(v)}
              >
                {v === "plain" ? "Plain text" : v === "phone" ? "Phone" : "Desktop"}
              </button>
            ))}
          </div>
          {preview.error && <Sentence error={preview.error} />}
          {preview.data && (
            <>
              <p className="truncate text-[13px]" title={preview.data.subject}>
                <b>{t.from_name || "no name"}</b> · {preview.data.subject || "no subject"}
              </p>
              <p className="mb-2 truncate text-[13px] text-ink-2">{t.preview || "no preview text"}</p>
              {view === "plain" ? (
                <pre className="code max-h-[440px]">{preview.data.plain}</pre>
              ) : (
                <div className="overflow-hidden rounded border border-rule bg-white" style={{ height: 440 }}>
                  <iframe
                    title={`Preview at ${view} width`}
                    sandbox=""
                    srcDoc={preview.data.html}
                    className="origin-top-left border-0"
                    style={
                      view === "desktop"
                        ? { width: 640, height: 982, transform: "scale(0.446)" }
                        : { width: 375, height: 579, transform: "scale(0.76)" }
                    }
                  />
                </div>
              )}
            </>
          )}
          <h2 className="mt-5 mb-1">Send a test</h2>
          <form
            className="flex gap-2"
            onSubmit={async (e) => {
              e.preventDefault();
              setError(null);
              setSaid("");
              const to = String(new FormData(e.currentTarget).get("to"));
              try {
                await post(`/campaigns/${c.id}/test`, { to });
                setSaid(`Sent to ${to}, marked as a test and never counted.`);
              } catch (x) {
                setError(x as Error);
              }
            }}
          >
            <input
              className="field"
              name="to"
              type="email"
              defaultValue={me.email}
              placeholder="you@kestrelquay.example"
              aria-label="Send a test to"
              required
            />
            <button type="submit" className="btn">
              Send
            </button>
          </form>
          {said && (
            <p role="status" className="mt-1 text-[13px] text-clover">
              {said}{" "}
              {me.demo && (
                <a
                  className="text-cornflower underline"
                  href={`${me.world_url}/look/${me.email}`}
                  target="_blank"
                  rel="noreferrer"
                >
                  Look at it
                </a>
              )}
            </p>
          )}
        </>
      }
    >
      <Sentence error={error} />
      <div className="grid grid-cols-2 gap-x-4 gap-y-3 max-[760px]:grid-cols-1">
        <label>
          <span className="label">Purpose</span>
          <select
            className="field"
            aria-label="Purpose"
            disabled={!draft}
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
            disabled={!draft}
            value={c.from_address ?? ""}
            onChange={(e) => keep({ from_address: Number(e.target.value) || null })}
          >
            <option value="">choose…</option>
            {addresses.map((a) => (
              <option key={a.id} value={a.id}>
                {a.address}
                {a.usable ? "" : a.confirmed_at ? " (its domain is broken)" : " (not confirmed)"}
              </option>
            ))}
          </select>
        </label>
        <label>
          <span className="label">From-name</span>
          <input
            className="field"
            disabled={!draft}
            value={t.from_name}
            onChange={(e) => change("from_name", e.target.value)}
          />
        </label>
        <label>
          <span className="label">
            Subject <span className="text-ink-3">{t.subject.length} characters, a phone shows about 40</span>
          </span>
          <input
            className="field"
            disabled={!draft}
            value={t.subject}
            onChange={(e) => change("subject", e.target.value)}
          />
        </label>
        <label className="col-span-2 max-[760px]:col-span-1">
          <span className="label">
            Preview text <span className="text-ink-3">{t.preview.length} characters, 40 to 100 are read</span>
          </span>
          <input
            className="field"
            disabled={!draft}
            value={t.preview}
            onChange={(e) => change("preview", e.target.value)}
          />
        </label>
      </div>
      <div className="mt-4 mb-1 flex items-end justify-between">
        <div className="flex gap-4" role="tablist" aria-label="Body">
          <button
            type="button"
            role="tab"
            aria-selected={part === "html"}
            data-on={part === "html"}
            className="tab pb-1!"
            onClick={() => setPart("html")}
          >
            HTML
          </button>
          <button
            type="button"
            role="tab"
            aria-selected={part === "plain"}
            data-on={part === "plain"}
            className="tab pb-1!"
            onClick={() => setPart("plain")}
          >
            Plain-text twin {c.plain_by_hand ? "(by hand)" : "(follows)"}
          </button>
        </div>
        {draft && (
          <select
            className="field w-auto py-0.5"
            aria-label="Insert a personal field"
            value=""
            onChange={(e) => e.target.value && insert(e.target.value)}
          >
            <option value="">Insert a personal field…</option>
            {c.fields.map((f) => (
              <option key={f}>{f}</option>
            ))}
          </select>
        )}
      </div>
      <textarea
        ref={area}
        className="field min-h-[300px] font-mono text-[12.5px] leading-[1.5]"
        style={{ height: "calc(100vh - 490px)" }}
        disabled={!draft}
        spellCheck={false}
        aria-label={part === "html" ? "HTML body" : "Plain-text twin"}
        value={t[part]}
        onChange={(e) => change(part, e.target.value)}
        placeholder={part === "html" ? "Paste or write HTML here." : "Follows the HTML until you write here."}
      />
      <p className="mt-1 text-[13px] text-ink-2">
        {c.links.length} {c.links.length === 1 ? "link" : "links"}, followed through this workspace. An unsubscribe link
        and the postal address are added at the end if the text has none.
      </p>
    </Page>
  );
}
