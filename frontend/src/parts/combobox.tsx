import { type KeyboardEvent, useEffect, useId, useState } from "react";

/** What a combobox is to assistive technology: the field says that it has a list and which option is current, each
 * option that it is one. The part that draws it decides which keys move and which accept. */
export function useCombobox(count: number, shown: boolean) {
  const id = useId();
  const [wanted, setAt] = useState(0);
  const at = Math.max(0, Math.min(wanted, count - 1));
  const option = (i: number) => `${id}option${i}`;
  useEffect(() => {
    if (shown) document.getElementById(`${id}option${at}`)?.scrollIntoView?.({ block: "nearest" });
  }, [id, at, shown]);
  return {
    at,
    setAt,
    /** Move by the arrow keys, round the ends; whether the key was one of them. */
    arrow: (e: KeyboardEvent): boolean => {
      const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
      if (!step || !count) return false;
      setAt((at + step + count) % count);
      return true;
    },
    field: {
      role: "combobox",
      "aria-autocomplete": "list",
      "aria-expanded": shown,
      "aria-controls": shown ? `${id}list` : undefined,
      "aria-activedescendant": shown && count ? option(at) : undefined,
    } as const,
    /** The same for a text of several lines, which is not a combobox to the standard. */
    area: {
      "aria-autocomplete": "list",
      "aria-haspopup": "listbox",
      "aria-controls": shown ? `${id}list` : undefined,
      "aria-activedescendant": shown && count ? option(at) : undefined,
    } as const,
    list: (label: string) => ({ id: `${id}list`, role: "listbox", "aria-label": label }) as const,
    option: (i: number) => ({ id: option(i), role: "option", "aria-selected": i === at, tabIndex: -1 }) as const,
  };
}

/** How many results there are, said to those who do not see the list. */
export const Announced = ({ count, shown }: { count: number; shown: boolean }) => (
  <span className="sr-only" role="status">
    {!shown ? "" : count ? `${count} ${count === 1 ? "suggestion" : "suggestions"}` : "No results"}
  </span>
);
