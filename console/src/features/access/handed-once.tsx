import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";

/** What is shown this once, to be handed on: a link, a secret. */
export function HandedOnce({ title, label, what, hint, close }: { title: string; label: string; what: string; hint: string; close: () => void }) {
  return (
    <Dialog open close={close} title={title}>
      <Field label={label} hint={hint}>
        <input className={`${inputLook} font-mono text-sm`} readOnly value={what} onFocus={(e) => e.target.select()} />
      </Field>
      <div className="flex justify-end gap-2">
        <Button onClick={() => void navigator.clipboard.writeText(what)}>Copy</Button>
        <Button kind="strong" onClick={close}>
          Done
        </Button>
      </div>
    </Dialog>
  );
}
