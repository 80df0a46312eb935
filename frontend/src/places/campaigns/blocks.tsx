import { useQuery } from "@tanstack/react-query";
import { post } from "../../api/client";
import { keys } from "../../api/keys";
import { count } from "../../logic/format";
import { useDelayed } from "../../parts/delayed";
import { RuleField } from "../../parts/rule-field";
import { useNames } from "../segments/list";
import type { Align, Block } from "./block";
import { ImageBlock, LinksBlock } from "./block-parts";
import { RichText } from "./rich-text";

const WORDS: Record<Block["kind"], string> = {
  text: "Text",
  image: "Image",
  button: "Button",
  links: "Links",
  columns: "Two columns",
  rule: "Divider",
  space: "Space",
  footer: "Footer",
};
const ALIGNS: Block["kind"][] = ["text", "image", "button", "links"];
const NEW: Record<Block["kind"], () => Block> = {
  text: () => ({ kind: "text", html: "<p></p>" }),
  image: () => ({ kind: "image", src: "", alt: "" }),
  button: () => ({ kind: "button", words: "", href: "https://" }),
  links: () => ({ kind: "links", align: "center", links: [{ words: "", href: "https://" }] }),
  columns: () => ({ kind: "columns", left: [NEW.text()], right: [NEW.text()] }),
  rule: () => ({ kind: "rule" }),
  space: () => ({ kind: "space", height: 24 }),
  footer: () => ({ kind: "footer", html: "<p></p>" }),
};

/** A message block by block, in the order it is read; each moved, conditional only, or taken away. */
export function Blocks({
  of,
  set,
  fields,
  disabled,
  campaign,
  inside = false,
  name = "Block",
}: {
  of: Block[];
  set: (blocks: Block[]) => void;
  fields: string[];
  disabled: boolean;
  /** whose recipients see it; a template has none */
  campaign?: number;
  inside?: boolean;
  name?: string;
}) {
  const change = (i: number, v: Partial<Block>) => set(of.map((b, k) => (k === i ? { ...b, ...v } : b)));
  const swap = (i: number, j: number) => {
    const next = [...of];
    const [b] = next.splice(i, 1);
    if (b) next.splice(j, 0, b);
    set(next);
  };
  const kinds = (Object.keys(WORDS) as Block["kind"][]).filter((k) => !inside || !["columns", "footer"].includes(k));
  return (
    <div>
      {of.map((b, i) => (
        <section
          key={i}
          className="border-b border-rule py-2.5 first:border-t"
          aria-label={`${name} ${i + 1}, ${WORDS[b.kind].toLowerCase()}`}
        >
          <header className="mb-1.5 flex items-center gap-2 text-small">
            <span className="font-semibold text-ink-2">{WORDS[b.kind]}</span>
            {b.rule !== undefined && <span className="text-cornflower">conditional</span>}
            {!disabled && ALIGNS.includes(b.kind) && (
              <select
                className="rounded border border-rule bg-panel px-1"
                aria-label={`Alignment of ${name.toLowerCase()} ${i + 1}`}
                value={b.align ?? "left"}
                onChange={(e) => change(i, { align: e.target.value as Align })}
              >
                {(["left", "center", "right"] as const).map((a) => (
                  <option key={a}>{a}</option>
                ))}
              </select>
            )}
            {!disabled && (
              <span className="ml-auto flex gap-1">
                {!inside && (
                  <button
                    type="button"
                    className="btn btn-bare py-0"
                    onClick={() => change(i, { rule: b.rule === undefined ? "" : undefined })}
                  >
                    {b.rule === undefined ? "Show only if…" : "Always show"}
                  </button>
                )}
                <button
                  type="button"
                  className="btn btn-bare px-1.5 py-0"
                  disabled={!i}
                  aria-label={`Move ${name.toLowerCase()} ${i + 1} up`}
                  onClick={() => swap(i, i - 1)}
                >
                  ↑
                </button>
                <button
                  type="button"
                  className="btn btn-bare px-1.5 py-0"
                  disabled={i === of.length - 1}
                  aria-label={`Move ${name.toLowerCase()} ${i + 1} down`}
                  onClick={() => swap(i, i + 1)}
                >
                  ↓
                </button>
                <button
                  type="button"
                  className="btn btn-bare py-0"
                  aria-label={`Remove ${name.toLowerCase()} ${i + 1}`}
                  onClick={() => set(of.filter((_, k) => k !== i))}
                >
                  Remove
                </button>
              </span>
            )}
          </header>
          {b.rule !== undefined && <ForSome rule={b.rule} set={(rule) => change(i, { rule })} campaign={campaign} />}
          <One
            b={b}
            set={(v) => change(i, v)}
            fields={fields}
            disabled={disabled}
            campaign={campaign}
            name={`${name} ${i + 1}`}
          />
        </section>
      ))}
      {!disabled && (
        <p className="mt-2 flex flex-wrap items-center gap-1 text-small">
          <span className="text-ink-2">Add</span>
          {kinds.map((k) => (
            <button key={k} type="button" className="btn btn-bare py-0" onClick={() => set([...of, NEW[k]()])}>
              {WORDS[k]}
            </button>
          ))}
        </p>
      )}
    </div>
  );
}

function ForSome({ rule, set, campaign }: { rule: string; set: (rule: string) => void; campaign: number | undefined }) {
  const names = useNames();
  const settled = useDelayed(rule.trim(), 400);
  const q = useQuery({
    queryKey: keys.condition(campaign, settled),
    queryFn: async ({ signal }) => {
      if (campaign !== undefined) return post(`/campaigns/${campaign}/shown-to`, { rule: settled }, signal);
      const all = await post("/segments/count", { rule: settled }, signal);
      return { people: all.count, recipients: all.subscribers };
    },
    enabled: settled !== "",
    retry: false,
  });
  return (
    <div className="mb-2">
      <div className="flex gap-2">
        <RuleField
          className="grow"
          value={rule}
          set={set}
          names={names}
          label="Show only to subscribers who match"
          placeholder="for example: band is Strong"
          invalid={q.isError}
        />
        {(names.segment ?? []).length > 0 && (
          <select
            className="field w-[150px]!"
            aria-label="Show only to a segment"
            value=""
            onChange={(e) => set(`in segment "${e.target.value.replaceAll('"', '""')}"`)}
          >
            <option value="">A segment…</option>
            {(names.segment ?? []).map((s) => (
              <option key={s.name}>{s.name}</option>
            ))}
          </select>
        )}
      </div>
      {q.isError ? (
        <p role="alert" className="mt-1 text-poppy">
          {q.error.message} The campaign cannot start with it.
        </p>
      ) : (
        <p className="mt-1 text-small text-ink-2">
          {settled
            ? q.data
              ? `Shown to ${count(q.data.people)} of ${count(q.data.recipients)} ${campaign === undefined ? "subscribers" : "recipients"}.`
              : "Counting…"
            : "Write a rule; leave it empty to show the block to everyone."}
        </p>
      )}
    </div>
  );
}

function One({
  b,
  set,
  fields,
  disabled,
  campaign,
  name,
}: {
  b: Block;
  campaign: number | undefined;
  set: (v: Partial<Block>) => void;
  fields: string[];
  disabled: boolean;
  name: string;
}) {
  if (b.kind === "text" || b.kind === "footer")
    return (
      <RichText value={b.html ?? ""} set={(html) => set({ html })} label={name} fields={fields} disabled={disabled} />
    );
  if (b.kind === "image") return <ImageBlock b={b} set={set} disabled={disabled} name={name} />;
  if (b.kind === "button")
    return (
      <div className="grid grid-cols-2 gap-3">
        <label>
          <span className="label">Button text</span>
          <input
            className="field"
            disabled={disabled}
            value={b.words ?? ""}
            onChange={(e) => set({ words: e.target.value })}
          />
        </label>
        <label>
          <span className="label">Link</span>
          <input
            className="field"
            disabled={disabled}
            value={b.href ?? ""}
            onChange={(e) => set({ href: e.target.value })}
          />
        </label>
      </div>
    );
  if (b.kind === "columns")
    return (
      <div className="grid grid-cols-2 gap-4">
        {(["left", "right"] as const).map((side) => (
          <div key={side}>
            <Blocks
              campaign={campaign}
              of={b[side] ?? []}
              set={(blocks) => set({ [side]: blocks })}
              fields={fields}
              disabled={disabled}
              inside
              name={`${name}, ${side}, block`}
            />
          </div>
        ))}
      </div>
    );
  if (b.kind === "links") return <LinksBlock b={b} set={set} disabled={disabled} />;
  if (b.kind === "space")
    return (
      <label className="flex items-center gap-2 text-small">
        Height in pixels
        <input
          className="field w-[90px] py-0.5"
          type="number"
          min={4}
          max={120}
          disabled={disabled}
          value={b.height ?? 24}
          onChange={(e) => set({ height: Number(e.target.value) })}
        />
      </label>
    );
  return <hr className="my-1 border-rule-strong" />;
}
