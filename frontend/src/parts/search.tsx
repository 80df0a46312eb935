import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { get } from "../api/client";
import { keys } from "../api/keys";
import { PLACE_WORDS, PLACES } from "../logic/places";
import { Announced, useCombobox } from "./combobox";
import { Dialog } from "./dialog";

const WHERE = {
  subscriber: "/subscribers/",
  segment: "/segments/",
  campaign: "/campaigns/",
  sequence: "/sequences/",
} as const;

/** Search over subscribers, segments, campaigns, sequences and pages. */
export function Search({ open, close }: { open: boolean; close: () => void }) {
  const go = useNavigate();
  const [text, setText] = useState("");
  const found = useQuery({
    queryKey: keys.found(text),
    queryFn: ({ signal }) => get(`/search?text=${encodeURIComponent(text)}`, signal),
    enabled: open && text.trim().length > 0,
    placeholderData: keepPreviousData,
  });
  const wanted = text.trim().toLowerCase();
  const places = PLACES.filter((p) => !wanted || PLACE_WORDS[p].toLowerCase().includes(wanted)).map((p) => ({
    to: `/${p}`,
    name: PLACE_WORDS[p],
    kind: "page",
    detail: "",
  }));
  const items = [
    ...places,
    ...(wanted ? (found.data?.finds ?? []) : []).map((f) => ({
      to: WHERE[f.kind] + f.id,
      name: f.name,
      kind: f.kind,
      detail: f.detail,
    })),
  ];
  const { at, setAt, ...box } = useCombobox(items.length, items.length > 0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: each time it is opened
  useEffect(() => {
    if (open) {
      setText("");
      setAt(0);
    }
  }, [open]);
  const none = wanted && !items.length && !found.isFetching;
  const choose = (i: number) => {
    const item = items[i];
    if (item) {
      close();
      go(item.to);
    }
  };
  return (
    <Dialog open={open} change={(o) => !o && close()} title="Search" titleClass="sr-only" size="search">
      <input
        className="w-full border-b border-rule bg-transparent px-5 py-3.5 text-[17px] outline-none"
        placeholder="Subscriber, segment, campaign, sequence, page"
        aria-label="Search"
        {...box.field}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === "Enter") choose(at);
          else if (!box.arrow(e)) return;
          e.preventDefault();
        }}
      />
      <div className="max-h-[50vh] overflow-auto py-1">
        <div {...box.list("Results")}>
          {items.map((item, i) => (
            <button
              key={item.to}
              type="button"
              {...box.option(i)}
              onMouseEnter={() => setAt(i)}
              onClick={() => choose(i)}
              className={`flex w-full items-baseline gap-3 px-5 py-1.5 text-left ${i === at ? "bg-cornflower-pale" : ""}`}
            >
              <span className="shrink-0 font-semibold">{item.name}</span>
              <span className="min-w-0 flex-1 truncate text-ink-2">{item.detail}</span>
              <span className="shrink-0 text-small text-ink-3">{item.kind}</span>
            </button>
          ))}
        </div>
        {none && <p className="px-5 py-3 text-ink-2">No results. You can search for any part of an address.</p>}
      </div>
      <Announced count={items.length} shown={!found.isFetching && wanted.length > 0} />
    </Dialog>
  );
}
