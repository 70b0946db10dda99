import * as Radix from "@radix-ui/react-dialog";
import { cloneElement, type ReactElement, type ReactNode, useId } from "react";

import { Button } from "./button";
import { Refusal } from "./page";

/** A question over the page. Closes by Escape, by the ground behind it, or by its own buttons. */
export function Dialog({
  open,
  close,
  title,
  text,
  wide = false,
  children,
}: {
  open: boolean;
  close: () => void;
  title: string;
  text?: string;
  wide?: boolean;
  children: ReactNode;
}) {
  return (
    <Radix.Root open={open} onOpenChange={(next) => !next && close()}>
      <Radix.Portal>
        <Radix.Overlay className="fade-in fixed inset-0 z-40 bg-black/45" />
        <Radix.Content
          className={`fade-in fixed inset-x-0 bottom-0 z-50 max-h-[92vh] overflow-auto rounded-t-xl border border-rule bg-sheet p-6 shadow-xl sm:inset-x-auto sm:top-1/2 sm:bottom-auto sm:left-1/2 sm:-translate-x-1/2 sm:-translate-y-1/2 sm:rounded-xl ${wide ? "sm:w-[44rem]" : "sm:w-[30rem]"}`}
          aria-describedby={undefined}
        >
          <Radix.Title className="m-0 font-serif text-xl font-semibold">{title}</Radix.Title>
          {text && <Radix.Description className="mt-1.5 mb-0 text-faded">{text}</Radix.Description>}
          <div className="mt-4 flex flex-col gap-4">{children}</div>
        </Radix.Content>
      </Radix.Portal>
    </Radix.Root>
  );
}

interface FormProps {
  title: string;
  text?: string;
  close: () => void;
  send: () => void;
  /** While it is on its way. */
  asked: boolean;
  error: Error | null;
  /** What the button that sends says. */
  action: string;
  kind?: "strong" | "danger";
  children: ReactNode;
}

/** A question with fields: Enter or its button sends, and what was refused is said above the buttons. */
export function FormDialog({ title, text, close, send, asked, error, action, kind = "strong", children }: FormProps) {
  return (
    <Dialog open close={close} title={title} text={text}>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          send();
        }}
      >
        {children}
        <Refusal error={error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind={kind} type="submit" asked={asked}>
            {action}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

/** A named control; the name is the control's own, apart from what is in it. */
export function Field({ label, children, hint }: { label: string; children: ReactElement<{ id?: string }>; hint?: string }) {
  const id = useId();
  return (
    <div className="flex flex-col gap-1 text-sm">
      <label htmlFor={id} className="font-medium">
        {label}
      </label>
      {cloneElement(children, { id })}
      {hint && <span className="text-faded">{hint}</span>}
    </div>
  );
}

export const inputLook =
  "min-h-10 w-full rounded-md border border-rule bg-ground px-3 text-base text-ink placeholder:text-faded/70";
