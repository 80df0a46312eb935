import { type ReactNode, useEffect, useRef } from "react";

const WIDE = 4; // columns from which on a narrow screen stacks the cells of a row

/** A table with a name for those who cannot see what stands above it; ``plain`` without lines between its rows. On a narrow
 * screen the cells of a wide one stand below each other, each with its column's heading. */
export function Table({
  label,
  plain,
  className = "",
  children,
  ...aria
}: {
  label: string;
  plain?: boolean;
  className?: string;
  children: ReactNode;
  "aria-live"?: "polite";
}) {
  const table = useRef<HTMLTableElement>(null);
  useEffect(() => {
    if (table.current) named(table.current);
  });
  return (
    <table ref={table} aria-label={label} className={`${plain ? "w-full" : "lined"} ${className}`.trim()} {...aria}>
      {children}
    </table>
  );
}

/** Tell each cell of a wide table its column's heading, and keep what a table is to a screen reader when it is stacked. */
function named(table: HTMLTableElement) {
  const heads = [...(table.tHead?.rows[0]?.cells ?? [])];
  const stacked = heads.length >= WIDE && table.tHead?.rows.length === 1;
  table.classList.toggle("stacked", stacked);
  if (!stacked) return;
  table.setAttribute("role", "table");
  for (const row of table.rows) row.setAttribute("role", "row");
  for (const group of [table.tHead, ...table.tBodies]) group?.setAttribute("role", "rowgroup");
  for (const head of heads) head.setAttribute("role", "columnheader");
  for (const body of table.tBodies)
    for (const row of body.rows) {
      let at = 0;
      for (const cell of row.cells) {
        const words = cell.colSpan > 1 || at === 0 ? "" : (heads[at]?.innerText ?? heads[at]?.textContent ?? "");
        cell.dataset.label = words.replace(/[↑↓]/g, "").trim();
        cell.setAttribute("role", cell.tagName === "TH" ? "rowheader" : "cell");
        at += cell.colSpan;
      }
    }
}
