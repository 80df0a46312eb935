import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useRef } from "react";
import { get, type M, post } from "../../api/client";
import { keys } from "../../api/keys";
import { useAction } from "../../parts/action";
import { Sentence } from "../../parts/waiting";
import type { Block } from "./block";

/** Named links in a row: where else one can be followed. */
export function LinksBlock({ b, set, disabled }: { b: Block; set: (v: Partial<Block>) => void; disabled: boolean }) {
  const links = b.links ?? [];
  const write = (i: number, v: Partial<{ words: string; href: string }>) =>
    set({ links: links.map((l, k) => (k === i ? { ...l, ...v } : l)) });
  return (
    <div className="grid grid-cols-[1fr_2fr_auto] gap-x-3 gap-y-1.5">
      {links.map((l, i) => (
        <Fragment key={i}>
          <input
            className="field"
            aria-label={`Text of link ${i + 1}`}
            placeholder="for example: Our programme"
            disabled={disabled}
            value={l.words}
            onChange={(e) => write(i, { words: e.target.value })}
          />
          <input
            className="field"
            aria-label={`Address of link ${i + 1}`}
            disabled={disabled}
            value={l.href}
            onChange={(e) => write(i, { href: e.target.value })}
          />
          <button
            type="button"
            className="btn btn-bare py-0"
            disabled={disabled}
            aria-label={`Remove link ${i + 1}`}
            onClick={() => set({ links: links.filter((_, k) => k !== i) })}
          >
            ×
          </button>
        </Fragment>
      ))}
      {!disabled && links.length < 8 && (
        <button
          type="button"
          className="btn btn-bare justify-self-start py-0 text-small"
          onClick={() => set({ links: [...links, { words: "", href: "https://" }] })}
        >
          Add a link
        </button>
      )}
    </div>
  );
}

export function ImageBlock({
  b,
  set,
  disabled,
  name,
}: {
  b: Block;
  set: (v: Partial<Block>) => void;
  disabled: boolean;
  name: string;
}) {
  return (
    <div className="grid grid-cols-[140px_1fr] gap-4">
      <div className="flex min-h-[84px] items-center justify-center overflow-hidden rounded border border-rule bg-wash">
        {b.src ? (
          <img src={b.src} alt={b.alt ?? ""} className="max-h-[120px] max-w-full" />
        ) : (
          <span className="text-small text-ink-2">no image yet</span>
        )}
      </div>
      <div className="grid grid-cols-2 gap-x-3 gap-y-2">
        {!disabled && (
          <div className="col-span-2">
            <ChooseImage name={name} chosen={(p) => set({ src: p.url, width: Math.min(552, p.width) })} />
          </div>
        )}
        <label className={b.alt ? "" : "text-wheat"}>
          <span className="label">Alternative text{b.alt ? "" : ", shown when images are off"}</span>
          <input
            className="field"
            disabled={disabled}
            value={b.alt ?? ""}
            onChange={(e) => set({ alt: e.target.value })}
          />
        </label>
        <label>
          <span className="label">Width in pixels, 20 to 552</span>
          <input
            className="field"
            type="number"
            min={20}
            max={552}
            disabled={disabled}
            value={b.width ?? 552}
            onChange={(e) => set({ width: Number(e.target.value) })}
          />
        </label>
        <label>
          <span className="label">Link</span>
          <input
            className="field"
            disabled={disabled}
            placeholder="nowhere"
            value={b.href ?? ""}
            onChange={(e) => set({ href: e.target.value })}
          />
        </label>
      </div>
    </div>
  );
}

/** An image from this machine, or one uploaded before. */
export function ChooseImage({ chosen, name }: { chosen: (p: M["Image"]) => void; name: string }) {
  const client = useQueryClient();
  const file = useRef<HTMLInputElement>(null);
  const { run, error } = useAction();
  const known = useQuery({ queryKey: keys.images(), queryFn: () => get("/images") });
  const take = async (f: File) => {
    await run(async () => {
      const form = new FormData();
      form.append("file", f);
      chosen(await post("/images", form));
      await client.invalidateQueries({ queryKey: keys.images() });
    });
  };
  const images = known.data?.images ?? [];
  return (
    <div className="flex flex-wrap items-center gap-2">
      <input
        ref={file}
        type="file"
        accept="image/png,image/jpeg,image/gif"
        className="sr-only"
        tabIndex={-1}
        aria-label={`Image file for ${name.toLowerCase()}`}
        onChange={(e) => {
          const f = e.target.files?.[0];
          if (f) take(f);
          e.target.value = "";
        }}
      />
      <button type="button" className="btn py-0.5" onClick={() => file.current?.click()}>
        Upload…
      </button>
      {images.length > 0 && (
        <select
          className="field w-auto! py-0.5"
          aria-label={`Image for ${name.toLowerCase()}`}
          value=""
          onChange={(e) => {
            const p = images.find((x) => x.id === Number(e.target.value));
            if (p) chosen(p);
          }}
        >
          <option value="">choose an existing image…</option>
          {images.map((p) => (
            <option key={p.id} value={p.id}>
              {p.name}, {p.width} × {p.height}
            </option>
          ))}
        </select>
      )}
      <span className="text-small text-ink-3">PNG, JPEG or GIF, up to 2 MB</span>
      <Sentence error={error} />
    </div>
  );
}
