import type { ReactNode } from "react";

/** A form that is carried out here, not sent by the browser; ``act`` gets it with the values of its fields. */
export function Form({
  act,
  className,
  children,
  ...named
}: {
  act: (form: HTMLFormElement) => unknown;
  className?: string;
  children: ReactNode;
  "aria-label"?: string;
  id?: string;
}) {
  return (
    <form
      className={className}
      {...named}
      onSubmit={(e) => {
        e.preventDefault();
        e.stopPropagation();
        act(e.currentTarget);
      }}
    >
      {children}
    </form>
  );
}
