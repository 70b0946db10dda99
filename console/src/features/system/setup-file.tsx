import { useRef, useState } from "react";

import { api, type SetupDone, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useFirstSteps } from "./queries";

const MOST = 800_000;
/** All that such a file may change. */
const TOUCHES = ["shop", "setup", "costs", "models", "machines", "plan", "backups", "first-steps"];

/** The set-up as a file: take it away, or have the shop be as one says, once it was shown what would change. */
export function SetupFileSheet() {
  const may = useFirstSteps().isSuccess; // for who maintains
  const picker = useRef<HTMLInputElement>(null);
  const [text, setText] = useState("");
  const [large, setLarge] = useState<Error | null>(null);
  const [found, setFound] = useState<SetupDone | null>(null);
  const look = useChange((toml: string) => value(api.POST("/api/setup-file", { body: { text: toml, dry_run: true } })).then(setFound));
  if (!may) return null;
  const read = async (file?: File) => {
    if (!file) return;
    setLarge(file.size > MOST ? new Error(`${file.name} is larger than any set-up is.`) : null);
    if (file.size > MOST) return;
    const toml = await file.text();
    setText(toml);
    look.mutate(toml);
  };
  return (
    <Sheet className="min-w-0">
      <SheetTitle>The set-up as a file</SheetTitle>
      <div className="flex flex-col gap-3 px-5 pb-4">
        <p className="m-0 text-faded">Name, money, planning, hours, models, machines, prices and the rule of backups, as TOML: to be kept, compared, and taken to another shop.</p>
        <div className="flex flex-wrap items-center gap-2">
          <a href="/api/setup-file" download className="inline-flex min-h-9 items-center rounded-md border border-rule bg-sheet px-3.5 text-sm font-medium text-ink no-underline hover:bg-sunk">
            Take it away
          </a>
          <Button asked={look.isPending} onClick={() => picker.current?.click()}>
            Apply a file…
          </Button>
          <input
            ref={picker}
            type="file"
            accept=".toml,application/toml"
            aria-label="A set-up file"
            className="sr-only"
            tabIndex={-1}
            onChange={(e) => {
              void read(e.target.files?.[0]);
              e.target.value = "";
            }}
          />
        </div>
        <Refusal error={large ?? look.error} />
      </div>
      {found && <Would done={found} text={text} close={() => setFound(null)} />}
    </Sheet>
  );
}

function Would({ done, text, close }: { done: SetupDone; text: string; close: () => void }) {
  const apply = useChange(() => value(api.POST("/api/setup-file", { body: { text, dry_run: false } })).then(close), ...TOUCHES);
  const many = done.changes.length;
  return (
    <Dialog open close={close} wide title={many ? `${many} thing${many === 1 ? "" : "s"} would change` : "Nothing would change"} text={many ? "What the file leaves out stays, and nothing is removed." : "All is as the file says already."}>
      {many > 0 && (
        <ul className="m-0 max-h-[50vh] list-none divide-y divide-rule overflow-auto p-0 text-sm">
          {done.changes.map((c, n) => (
            <li key={n} className="grid gap-x-4 py-2 sm:grid-cols-[12rem_1fr]">
              <span className="font-medium">{c.about}</span>
              <span className="min-w-0 break-words text-faded">{c.what}</span>
            </li>
          ))}
        </ul>
      )}
      <Refusal error={apply.error} />
      <div className="flex justify-end gap-2">
        <Button kind="quiet" onClick={close}>
          {many ? "Leave all as it is" : "Close"}
        </Button>
        {many > 0 && (
          <Button kind="strong" asked={apply.isPending} onClick={() => apply.mutate(undefined)}>
            Change {many === 1 ? "it" : "them"}
          </Button>
        )}
      </div>
    </Dialog>
  );
}
