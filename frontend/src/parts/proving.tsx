import { createContext, type ReactNode, useCallback, useContext, useRef, useState } from "react";
import { Problem, post } from "../api/client";
import { Close, Dialog } from "./dialog";
import { Form } from "./form";
import { Sentence } from "./waiting";

type Guarded = <T>(act: () => Promise<T>) => Promise<T>;
const Context = createContext<Guarded>((act) => act());

/** Runs an act; where the server wants the password once more it is asked for, and the act tried again. */
export const useGuarded = () => useContext(Context);

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
      <Dialog open={open} change={(o) => !o && cancel()} title="Confirm it is you" above>
        <Form
          act={async (form) => {
            try {
              await post("/me/prove", { password: String(new FormData(form).get("password")) });
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
            <Close>Cancel</Close>
            <button type="submit" className="btn btn-main">
              Confirm
            </button>
          </div>
        </Form>
      </Dialog>
    </Context>
  );
}
