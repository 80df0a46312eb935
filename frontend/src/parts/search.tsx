import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { get } from "../api/client";
import { PLACE_WORDS, PLACES } from "../logic/keys";

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
  const [at, setAt] = useState(0);
  const found = useQuery({
    queryKey: ["find", text],
    queryFn: ({ signal }) => get(`/search?text=${encodeURIComponent(text)}`, signal),
    enabled: open && text.trim().length > 0,
    placeholderData: keepPreviousData,
  });
  useEffect(() => {
    if (open) {
      setText("");
      setAt(0);
    }
  }, [open]);
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
  const choose = (i: number) => {
    const item = items[i];
    if (item) {
      close();
      go(item.to);
    }
  };
  return (
    <Dialog.Root open={open} onOpenChange={(o) => !o && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/25" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-[12vh] left-1/2 z-50 w-[min(620px,94vw)] -translate-x-1/2 overflow-hidden rounded border border-rule-strong bg-panel shadow-xl"
        >
          <Dialog.Title className="sr-only">Search</Dialog.Title>
          <input
            className="w-full border-b border-rule bg-transparent px-5 py-3.5 text-[17px] outline-none"
            placeholder="Subscriber, segment, campaign, sequence, page"
            aria-label="Search"
            value={text}
            onChange={(e) => {
              setText(e.target.value);
              setAt(0);
            }}
            onKeyDown={(e) => {
              if (e.key === "ArrowDown") setAt(Math.min(at + 1, items.length - 1));
              else if (e.key === "ArrowUp") setAt(Math.max(at - 1, 0));
              else if (e.key === "Enter") choose(at);
              else return;
              e.preventDefault();
            }}
          />
          <ul className="max-h-[50vh] overflow-auto py-1">
            {items.map((item, i) => (
              <li key={item.to}>
                <button
                  type="button"
                  onMouseEnter={() => setAt(i)}
                  onClick={() => choose(i)}
                  className={`flex w-full items-baseline gap-3 px-5 py-1.5 text-left ${i === at ? "bg-cornflower-pale" : ""}`}
                >
                  <span className="shrink-0 font-semibold">{item.name}</span>
                  <span className="min-w-0 flex-1 truncate text-ink-2">{item.detail}</span>
                  <span className="shrink-0 text-[13px] text-ink-3">{item.kind}</span>
                </button>
              </li>
            ))}
            {wanted && !items.length && !found.isFetching && (
              <li className="px-5 py-3 text-ink-2">No results. You can search for any part of an address.</li>
            )}
          </ul>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
