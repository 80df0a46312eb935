import type { ReactNode } from "react";
import { NavLink } from "react-router";

/** The work area with its right side for "what this means". */
export function Page({
  title,
  lead,
  acts,
  side,
  tabs,
  children,
  tag,
}: {
  title: ReactNode;
  lead?: ReactNode;
  acts?: ReactNode;
  side?: ReactNode;
  tabs?: ReactNode;
  children: ReactNode;
  tag?: ReactNode;
}) {
  return (
    <div className="flex h-full min-h-0 max-tablet:block max-tablet:overflow-auto print:block print:h-auto">
      <main className="relative min-w-0 flex-1 overflow-auto px-6 pt-5 pb-8 max-phone:px-4 print:overflow-visible">
        <header className="mb-3 flex min-h-8 items-start justify-between gap-6 max-phone:flex-wrap max-phone:gap-2">
          <div className="min-w-0 wrap-anywhere">
            <h1 className="flex flex-wrap items-center gap-x-3 gap-y-1">
              {title}
              {tag}
            </h1>
            {lead && <p className="mt-1.5 text-ink-2">{lead}</p>}
          </div>
          {acts && (
            <div className="flex max-w-[72%] shrink-0 flex-wrap justify-end gap-2 max-phone:max-w-full max-phone:shrink max-phone:justify-start print:hidden">
              {acts}
            </div>
          )}
        </header>
        {tabs}
        {children}
      </main>
      {side && (
        <aside className="relative w-[326px] shrink-0 overflow-auto border-l border-rule-strong bg-panel px-5 py-5 print:w-full print:bg-white print:px-6 print:overflow-visible print:border-0 max-tablet:w-full max-tablet:border-t max-tablet:border-l-0">
          {side}
        </aside>
      )}
    </div>
  );
}

export function Tabs({ of }: { of: { to: string; words: string; extra?: ReactNode }[] }) {
  return (
    <nav
      className="mb-4 flex gap-5 border-b border-rule max-tablet:overflow-x-auto max-tablet:overflow-y-hidden max-tablet:whitespace-nowrap print:hidden"
      aria-label="Pages in this section"
    >
      {of.map((t) => (
        <NavLink
          key={t.to}
          to={t.to}
          replace
          className={({ isActive }) =>
            `-mb-px border-b-2 pb-2 ${isActive ? "border-ink font-semibold text-ink" : "border-transparent text-ink-2 hover:text-ink"}`
          }
        >
          {t.words}
          {t.extra && <span className="ml-1.5 text-small font-normal text-clover">{t.extra}</span>}
        </NavLink>
      ))}
    </nav>
  );
}
