import { type ReactNode, useEffect, useState } from "react";
import { Dialog } from "./dialog";
import { useKeys } from "./keys";

export interface RowAct {
  words: string;
  act: () => void;
}

interface Hooks {
  /** the row at hand has changed, by which key and from where */
  moved?: (to: number, e: KeyboardEvent | undefined, from: number) => void;
  marked?: (at: number) => void;
}

const PAGE = 15;

/** A list walked by keyboard: arrows move, Space selects, Enter opens, F2 edits, `=` shows the actions of the current row. */
export function useRows(
  count: number,
  acts: (at: number) => RowAct[],
  edit?: (at: number) => void,
  { moved, marked }: Hooks = {},
): { at: number; menu: ReactNode } {
  const [wanted, setAt] = useState(0);
  const [open, setOpen] = useState(false);
  /** Enter was pressed on a row still under way: it opens when it is there, unless another row was gone to. */
  const [due, setDue] = useState(false);
  const at = Math.max(0, Math.min(wanted, count - 1));
  const mine = count ? acts(at) : [];
  const step = (by: number) => (e?: KeyboardEvent) => {
    const to = Math.max(0, Math.min(at + by, count - 1));
    setAt(to);
    setDue(false);
    moved?.(to, e, at);
  };
  useKeys([
    { key: "ArrowDown", words: marked ? "next row (Shift extends the selection)" : "next row", act: step(1) },
    { key: "ArrowUp", words: "previous row", act: step(-1) },
    { key: "PageDown", words: "page down", act: step(PAGE) },
    { key: "PageUp", words: "page up", act: step(-PAGE) },
    ...(marked ? [{ key: " ", words: "select or unselect the row", act: () => marked(at) }] : []),
    { key: "Enter", words: "open the row", act: () => (mine[0] ? mine[0].act() : setDue(true)) },
    { key: "F2", words: "edit the row", act: () => (edit ? edit(at) : mine[0]?.act()) },
    { key: "=", words: "row actions", act: () => mine.length && setOpen(true) },
  ]);
  const arrived = due && mine.length > 0;
  // biome-ignore lint/correctness/useExhaustiveDependencies: once, when the row has arrived
  useEffect(() => {
    if (!arrived) return;
    setDue(false);
    mine[0]?.act();
  }, [arrived]);
  const menu = (
    <Dialog open={open} change={setOpen} title="Actions" titleClass="px-4 pb-1 text-[15px]" size="menu">
      {mine.map((a) => (
        <button
          key={a.words}
          type="button"
          className="block w-full px-4 py-1.5 text-left hover:bg-cornflower-pale focus:bg-cornflower-pale"
          onClick={() => {
            setOpen(false);
            a.act();
          }}
        >
          {a.words}
        </button>
      ))}
    </Dialog>
  );
  return { at, menu };
}
