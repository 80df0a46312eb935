import { type ReactNode, useState } from "react";
import { useAction } from "./action";
import { Close, Dialog } from "./dialog";
import { Sentence } from "./waiting";

/** Ask once before an outward act: what will happen, in numbers. It stays open where the act fails, and says why. */
export function Ask({
  trigger,
  title,
  children,
  act,
  words,
  grave,
  disabled,
  opened,
}: {
  trigger: ReactNode;
  title: string;
  children: ReactNode;
  act: () => Promise<unknown>;
  words: string;
  grave?: boolean;
  disabled?: boolean;
  opened?: (open: boolean) => void;
}) {
  const [open, setOpen] = useState(false);
  const { run, busy, error, forget } = useAction();
  const change = (o: boolean) => {
    setOpen(o);
    opened?.(o);
    forget();
  };
  return (
    <Dialog open={open} change={change} trigger={trigger} title={title}>
      <div className="mb-5 text-ink-2">{children}</div>
      <Sentence error={error} />
      <div className="mt-4 flex justify-end gap-2">
        <Close>Cancel</Close>
        <button
          type="button"
          className={`btn ${grave ? "btn-grave" : "btn-main"}`}
          disabled={busy || disabled}
          onClick={async () => {
            if (await run(act)) setOpen(false);
          }}
        >
          {words}
        </button>
      </div>
    </Dialog>
  );
}
