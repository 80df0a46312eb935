import type { ReactNode } from "react";

export function Quiet({ children }: { children: ReactNode }) {
  return <p className="max-w-[60ch] py-6 text-ink-2">{children}</p>;
}

/** Loading and failure of a view, in words. */
export function Waiting({ error, what }: { error: Error | null; what: string }) {
  if (!error) return <Quiet>Working out {what}…</Quiet>;
  return (
    <div className="max-w-[60ch] py-6" role="alert">
      <p className="font-semibold text-poppy">{error.message}</p>
      <button type="button" className="btn mt-3" onClick={() => location.reload()}>
        Reload
      </button>
    </div>
  );
}

export function Sentence({ error }: { error: Error | null | undefined }) {
  return error ? (
    <p role="alert" className="mt-2 text-poppy">
      {error.message}
    </p>
  ) : null;
}
