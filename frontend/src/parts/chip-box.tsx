import { type ReactNode, useState } from "react";
import { hasWords } from "../logic/listed";
import { Announced, useCombobox } from "./combobox";

export interface Chip {
  key: string;
  words: string;
  /** what stands beside the words, such as how many people */
  detail?: ReactNode;
}
export interface Option extends Chip {
  group: string;
}
const MOST_OFFERED = 40;

/** A searchable box: what is chosen stands in it as chips, what fits to what is typed is offered below. */
export function ChipBox({
  label,
  placeholder,
  chips,
  options,
  typed,
  add,
  remove,
  disabled,
}: {
  label: string;
  placeholder: string;
  chips: Chip[];
  options: Option[];
  /** what is typed, for options that are looked for elsewhere */
  typed?: (text: string) => void;
  add: (key: string) => void;
  remove: (key: string) => void;
  disabled: boolean;
}) {
  const [text, setText] = useState("");
  const [open, setOpen] = useState(false);
  const chosen = new Set(chips.map((c) => c.key));
  const offered = options
    .filter((o) => !chosen.has(o.key) && hasWords(`${o.words} ${o.group}`, text.trim()))
    .slice(0, MOST_OFFERED);
  const shown = open && !disabled && offered.length > 0;
  const box = useCombobox(offered.length, shown);
  const type = (value: string) => {
    setText(value);
    typed?.(value);
    setOpen(true);
    box.setAt(0);
  };
  const take = (i: number) => {
    const o = offered[i];
    if (!o) return;
    add(o.key);
    type("");
  };
  return (
    <div className="relative">
      <span className="label">{label}</span>
      <div className="flex flex-wrap items-center gap-1.5 rounded border border-rule-strong bg-panel px-1.5 py-1 focus-within:border-cornflower">
        {chips.map((c) => (
          <span key={c.key} className="flex max-w-full items-center gap-1 rounded bg-cornflower-pale px-1.5 py-0.5">
            <span className="truncate" title={c.words}>
              {c.words}
            </span>
            {c.detail && <span className="text-small text-ink-2">{c.detail}</span>}
            {!disabled && (
              <button
                type="button"
                className="px-0.5 text-ink-2 hover:text-poppy"
                aria-label={`Remove ${c.words} from ${label.toLowerCase()}`}
                onClick={() => remove(c.key)}
              >
                ×
              </button>
            )}
          </span>
        ))}
        <input
          className="min-w-[160px] flex-1 bg-transparent px-1 py-0.5 outline-none"
          aria-label={label}
          placeholder={chips.length ? "" : placeholder}
          disabled={disabled}
          value={text}
          onChange={(e) => type(e.target.value)}
          onFocus={() => setOpen(true)}
          onClick={() => setOpen(true)}
          onBlur={() => setOpen(false)}
          onKeyDown={(e) => {
            if (box.arrow(e)) e.preventDefault();
            else if (e.key === "Enter" && shown) {
              e.preventDefault();
              take(box.at);
            } else if (e.key === "Escape" && shown) {
              e.stopPropagation();
              setOpen(false);
            } else if (e.key === "Backspace" && !text) {
              const last = chips.at(-1);
              if (last) remove(last.key);
            }
          }}
          {...box.field}
        />
      </div>
      <Announced count={offered.length} shown={open && text.trim() !== ""} />
      {shown && (
        <ul
          className="absolute right-0 left-0 z-20 mt-1 max-h-[300px] overflow-auto rounded border border-rule-strong bg-panel shadow-xl"
          {...box.list(label)}
        >
          {offered.map((o, i) => (
            <li
              key={o.key}
              className={`flex cursor-pointer items-baseline gap-2 px-2.5 py-1 ${i === box.at ? "bg-cornflower-pale" : ""}`}
              onMouseDown={(e) => e.preventDefault()}
              onMouseEnter={() => box.setAt(i)}
              onClick={() => take(i)}
              onKeyDown={() => undefined}
              {...box.option(i)}
            >
              <span className="min-w-0 truncate">{o.words}</span>
              <span className="text-small text-ink-2">{o.group}</span>
              <span className="ml-auto text-small text-ink-2">{o.detail}</span>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
