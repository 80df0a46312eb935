import type { ReactNode } from "react";

/** A table with a name for those who cannot see what stands above it; ``plain`` without lines between its rows. */
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
  return (
    <table aria-label={label} className={`${plain ? "w-full" : "lined"} ${className}`.trim()} {...aria}>
      {children}
    </table>
  );
}
