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
    <div className="flex h-full min-h-0 max-[900px]:block max-[900px]:overflow-auto print:block print:h-auto">
      <main className="relative min-w-0 flex-1 overflow-auto px-6 pt-5 pb-8 max-[640px]:px-4 print:overflow-visible">
        <header className="mb-3 flex min-h-8 items-start justify-between gap-6 max-[640px]:flex-wrap max-[640px]:gap-2">
          <div>
            <h1 className="flex flex-wrap items-center gap-x-3 gap-y-1">
              {title}
              {tag}
            </h1>
            {lead && <p className="mt-1.5 text-ink-2">{lead}</p>}
          </div>
          {acts && (
            <div className="flex shrink-0 flex-wrap justify-end gap-2 max-[640px]:shrink max-[640px]:justify-start print:hidden">
              {acts}
            </div>
          )}
        </header>
        {tabs}
        {children}
      </main>
      {side && (
        <aside className="relative w-[326px] shrink-0 overflow-auto border-l border-rule-strong bg-panel px-5 py-5 print:w-full print:overflow-visible print:border-0 max-[900px]:w-full max-[900px]:border-t max-[900px]:border-l-0">
          {side}
        </aside>
      )}
    </div>
  );
}

export function Tabs({ of }: { of: { to: string; words: string; extra?: ReactNode }[] }) {
  return (
    <nav
      className="mb-4 flex gap-5 border-b border-rule max-[900px]:overflow-x-auto max-[900px]:overflow-y-hidden max-[900px]:whitespace-nowrap print:hidden"
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
          {t.extra && <span className="ml-1.5 text-[13px] font-normal text-clover">{t.extra}</span>}
        </NavLink>
      ))}
    </nav>
  );
}
