import { useQuery } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { post } from "../api/client";
import type { Names } from "../logic/clauses";
import { completions, nextWords } from "../logic/rules";

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
  const field = useRef<HTMLTextAreaElement>(null);
  const [caret, setCaret] = useState(value.length);
  const [focused, setFocused] = useState(false);
  const [at, setAt] = useState(0);
  const before = value.slice(0, caret);
  const named = completions(before, names);
  const open = (before.match(/"/g) ?? []).length % 2 === 1;
  const fits = useQuery({
    queryKey: ["fits", before],
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
  return (
    <div className={`relative ${className}`}>
      <textarea
        id={id}
        ref={field}
        className={`field resize-none font-sans ${rows > 1 ? "text-[16px] leading-6" : ""}`}
        style={
          rows === 1
            ? { height: 31, paddingBlock: 5, lineHeight: "20px", display: "block", overflow: "hidden" }
            : undefined
        }
        rows={rows}
        spellCheck={false}
        value={value}
        aria-label={label}
        aria-invalid={invalid}
        placeholder={placeholder}
        onFocus={() => setFocused(true)}
        onBlur={() => setFocused(false)}
        onChange={(e) => {
          set(rows === 1 ? e.target.value.replaceAll("\n", " ") : e.target.value);
          setCaret(e.target.selectionStart);
          setAt(0);
        }}
        onSelect={(e) => setCaret(e.currentTarget.selectionStart)}
        onKeyDown={(e) => {
          const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
          if (e.key === "Escape") {
            field.current?.blur();
            e.stopPropagation();
          } else if (!shown) return;
          else if (step && rows === 1) setAt((at + step + list.length) % list.length);
          else if (e.key === "Tab" && !e.shiftKey && value.trim()) take(list[at] ?? "");
          else return;
          e.preventDefault();
        }}
      />
      {shown && (
        <div className="absolute top-full z-30 mt-px max-h-[240px] min-w-[220px] overflow-auto rounded border border-rule-strong bg-panel py-1 shadow-lg">
          {list.map((n, i) => (
            <button
              key={n}
              type="button"
              tabIndex={-1}
              className={`block w-full px-3 py-0.5 text-left ${i === at ? "bg-cornflower-pale" : "hover:bg-wash"}`}
              onMouseDown={(e) => {
                e.preventDefault();
                take(n);
              }}
            >
              {n}
            </button>
          ))}
          <p className="px-3 pt-1 text-[12px] text-ink-3">Tab accepts the selected suggestion</p>
        </div>
      )}
    </div>
  );
}
