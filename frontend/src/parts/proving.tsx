import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { createContext, type ReactNode, useCallback, useContext, useRef, useState } from "react";
import { Problem, post } from "../api/client";
import { Sentence } from "./basics";

type Guarded = <T>(act: () => Promise<T>) => Promise<T>;
const Context = createContext<Guarded>((act) => act());

/** Runs an act; where the server wants the password once more it is asked for, and the act tried again. */
export const useGuarded = () => useContext(Context);

/** One act after another of a page about accounts: its error, and what is asked for again when it is done. */
export function useAct(queryKey: string[]) {
  const client = useQueryClient();
  const guarded = useGuarded();
  const [error, setError] = useState<Error | null>(null);
  const act = async (f: () => Promise<unknown>) => {
    setError(null);
    try {
      await guarded(f);
    } catch (e) {
      setError(e as Error);
    }
    await client.invalidateQueries({ queryKey });
  };
  return { act, error };
}

interface Asked {
  done: () => void;
  cancelled: (e: Error) => void;
}

export function Proving({ children }: { children: ReactNode }) {
  const [open, setOpen] = useState(false);
  const [error, setError] = useState<Error | null>(null);
  const asked = useRef<Asked | null>(null);
  const guarded: Guarded = useCallback(async (act) => {
    try {
      return await act();
    } catch (e) {
      if (!(e instanceof Problem) || e.status !== 403 || !e.fits.includes("password")) throw e;
      setError(null);
      setOpen(true);
      await new Promise<void>((done, cancelled) => {
        asked.current = { done, cancelled };
      });
      return await act();
    }
  }, []);
  const cancel = () => {
    setOpen(false);
    asked.current?.cancelled(new Error("Nothing was changed: no password was entered."));
  };
  return (
    <Context value={guarded}>
      {children}
      <Dialog.Root open={open} onOpenChange={(o) => !o && cancel()}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 z-60 bg-ink/25" />
          <Dialog.Content
            className="fixed top-[18vh] left-1/2 z-70 max-h-[78vh] w-[min(420px,92vw)] -translate-x-1/2 overflow-auto rounded border border-rule-strong bg-panel p-6 shadow-xl"
            aria-describedby={undefined}
          >
            <Dialog.Title className="mb-2 text-[18px]">Confirm it is you</Dialog.Title>
            <form
              onSubmit={async (e) => {
                e.preventDefault();
                e.stopPropagation();
                try {
                  await post("/me/prove", { password: String(new FormData(e.currentTarget).get("password")) });
                  setOpen(false);
                  asked.current?.done();
                } catch (x) {
                  setError(x as Error);
                }
              }}
            >
              <p className="mb-3 text-ink-2">
                This changes access or removes a protection. You will not be asked again for ten minutes.
              </p>
              <label className="block">
                <span className="label">Password</span>
                <input className="field" name="password" type="password" autoComplete="current-password" required />
              </label>
              <Sentence error={error} />
              <div className="mt-4 flex justify-end gap-2">
                <Dialog.Close type="button" className="btn">
                  Cancel
                </Dialog.Close>
                <button type="submit" className="btn btn-main">
                  Confirm
                </button>
              </div>
            </form>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </Context>
  );
}
