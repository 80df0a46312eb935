import type { ReactNode } from "react";
import { useMe } from "./me";

/** What only some may use: writing is a writer's and an analyst's, deciding an analyst's. Others see it and cannot press. */
export function May({ to, children }: { to: "write" | "decide"; children: ReactNode }) {
  const role = useMe().role;
  const may = role === "analyst" || (to === "write" && role === "writer");
  return (
    <fieldset disabled={!may} className="contents">
      {children}
    </fieldset>
  );
}
