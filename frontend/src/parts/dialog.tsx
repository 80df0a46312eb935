import { Dialog as Radix } from "radix-ui";
import type { ReactNode } from "react";

const SIZES = {
  menu: "top-[24vh] w-[300px] py-2",
  small: "top-[18vh] max-h-[78vh] w-[min(520px,92vw)] overflow-auto p-6",
  medium: "top-[12vh] max-h-[80vh] w-[min(620px,94vw)] overflow-auto p-6",
  search: "top-[12vh] w-[min(620px,94vw)] overflow-hidden",
  large: "top-[5vh] flex max-h-[90vh] w-[min(980px,96vw)] flex-col",
} as const;

/** A dialog over the page: opened by its trigger, or from outside by ``open``. ``above`` lifts it over another dialog. */
export function Dialog({
  open,
  change,
  trigger,
  title,
  titleClass = "mb-2 text-[18px]",
  size = "small",
  above,
  children,
}: {
  open?: boolean;
  change?: (open: boolean) => void;
  trigger?: ReactNode;
  title: string;
  /** `sr-only` where the content says itself what it is. */
  titleClass?: string;
  size?: keyof typeof SIZES;
  above?: boolean;
  children: ReactNode;
}) {
  return (
    <Radix.Root open={open} onOpenChange={change}>
      {trigger && <Radix.Trigger asChild>{trigger}</Radix.Trigger>}
      <Radix.Portal>
        <Radix.Overlay className={`fixed inset-0 bg-ink/25 ${above ? "z-60" : "z-40"}`} />
        <Radix.Content
          className={`fixed left-1/2 -translate-x-1/2 rounded border border-rule-strong bg-panel shadow-xl ${SIZES[size]} ${above ? "z-70" : "z-50"}`}
          aria-describedby={undefined}
        >
          <Radix.Title className={titleClass}>{title}</Radix.Title>
          {children}
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

/** Closes the dialog it stands in. */
export const Close = ({ children, main }: { children: ReactNode; main?: boolean }) => (
  <Radix.Close type="button" className={`btn ${main ? "btn-main" : ""}`}>
    {children}
  </Radix.Close>
);
