import { type ReactNode, useEffect } from "react";
import { useBlocker } from "react-router";
import { Dialog } from "./dialog";

/** Asks before a page with unsaved work is left, by a link, the way back or a reload; returns the dialog to draw.
 * ``free`` is set while the page itself goes on after saving. */
export function useLeaving(unsaved: boolean, free: { current: boolean }): ReactNode {
  const blocker = useBlocker(
    ({ currentLocation, nextLocation }) =>
      unsaved && !free.current && currentLocation.pathname !== nextLocation.pathname,
  );
  useEffect(() => {
    if (!unsaved) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [unsaved]);
  const stay = () => blocker.state === "blocked" && blocker.reset();
  return (
    <Dialog open={blocker.state === "blocked"} change={stay} title="Leave without saving?">
      <p className="mb-4 text-ink-2">Your changes on this page are not saved.</p>
      <div className="flex justify-end gap-2">
        <button type="button" className="btn" onClick={stay}>
          Stay
        </button>
        <button
          type="button"
          className="btn btn-grave"
          onClick={() => blocker.state === "blocked" && blocker.proceed()}
        >
          Leave
        </button>
      </div>
    </Dialog>
  );
}
