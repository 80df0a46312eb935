import { useQuery } from "@tanstack/react-query";
import { type ChangeEvent, type KeyboardEvent, type SyntheticEvent, useRef, useState } from "react";
import { post } from "../api/client";
import { keys } from "../api/keys";
import type { Names } from "../logic/clauses";
import { completions, nextWords } from "../logic/rules";
import { Announced, useCombobox } from "./combobox";

/** A rule written as text: names and words that fit next are suggested below; Tab accepts one. */
export function RuleField({
  value,
  set,
  names,
  label,
  placeholder,
  rows = 1,
  invalid,
  className = "",
  id,
}: {
  value: string;
  set: (rule: string) => void;
  names: Names;
  label: string;
  placeholder: string;
  rows?: number;
  invalid?: boolean;
  className?: string;
  id?: string;
}) {
  const field = useRef<HTMLInputElement | HTMLTextAreaElement | null>(null);
  const [caret, setCaret] = useState(value.length);
  const [focused, setFocused] = useState(false);
  const before = value.slice(0, caret);
  const named = completions(before, names);
  const open = (before.match(/"/g) ?? []).length % 2 === 1;
  const fits = useQuery({
    queryKey: keys.ruleFits(before),
    queryFn: ({ signal }) => post("/segments/fits", { rule: before }, signal),
    enabled: focused && !open && caret === value.length && before.length < 2000,
    placeholderData: (p) => p,
  });
  const offer =
    named ?? (focused && !open && caret === value.length && fits.data ? nextWords(before, fits.data) : null);
  const take = (n: string) => {
    if (!offer) return;
    const tail = named ? value.slice(caret).replace(/^[^"]*"?/, "") : value.slice(caret);
    const middle = named ? `${n.replaceAll('"', '""')}"` : n === "a name in quotes" ? '"' : `${n} `;
    const next = `${value.slice(0, offer.from)}${middle}${tail}`;
    set(next);
    setCaret(offer.from + middle.length);
    setAt(0);
    field.current?.focus();
  };
  const list = offer?.names ?? [];
  const shown = focused && list.length > 0;
  const { at, setAt, ...box } = useCombobox(list.length, shown);
  const common = {
    id,
    spellCheck: false,
    value,
    placeholder,
    "aria-label": label,
    "aria-invalid": invalid,
    onFocus: () => setFocused(true),
    onBlur: () => setFocused(false),
    onChange: (e: ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => {
      set(e.target.value);
      setCaret(e.target.selectionStart ?? e.target.value.length);
      setAt(0);
    },
    onSelect: (e: SyntheticEvent<HTMLInputElement | HTMLTextAreaElement>) =>
      setCaret(e.currentTarget.selectionStart ?? value.length),
    onKeyDown: (e: KeyboardEvent) => {
      if (e.key === "Escape") {
        field.current?.blur();
        e.stopPropagation();
      } else if (!shown) return;
      else if (e.key === "Tab" && !e.shiftKey && value.trim()) take(list[at] ?? "");
      else if (rows > 1 || !box.arrow(e)) return;
      e.preventDefault();
    },
  };
  return (
    <div className={`relative ${className}`}>
      {rows > 1 ? (
        <textarea
          {...common}
          {...box.area}
          ref={(x) => {
            field.current = x;
          }}
          className="field resize-none font-sans text-[16px] leading-6"
          rows={rows}
        />
      ) : (
        <input
          {...common}
          {...box.field}
          ref={(x) => {
            field.current = x;
          }}
          className="field"
        />
      )}
      {shown && (
        <div className="absolute top-full z-30 mt-px max-h-[240px] min-w-[220px] overflow-auto rounded border border-rule-strong bg-panel py-1 shadow-lg">
          <div {...box.list(`${label}: what fits`)}>
            {list.map((n, i) => (
              <button
                key={n}
                type="button"
                {...box.option(i)}
                className={`block w-full px-3 py-0.5 text-left ${i === at ? "bg-cornflower-pale" : "hover:bg-wash"}`}
                onMouseDown={(e) => {
                  e.preventDefault();
                  take(n);
                }}
              >
                {n}
              </button>
            ))}
          </div>
          <p className="px-3 pt-1 text-tiny text-ink-3">Tab accepts the selected suggestion</p>
        </div>
      )}
      <Announced count={list.length} shown={shown} />
    </div>
  );
}
