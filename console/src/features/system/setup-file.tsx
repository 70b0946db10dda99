import { useRef, useState } from "react";

import { api, type SetupDone, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useMay } from "../../api/may";
import { useFirstSteps } from "./queries";

const MOST = 800_000;
/** All that such a file may change. */
const TOUCHES = ["shop", "setup", "costs", "models", "materials", "machines", "plan", "backups", "first-steps"];

type Format = "toml" | "csv" | "json";
/** What a file of a format holds. */
const FORMATS: { format: Format; name: string; what: string }[] = [
  { format: "toml", name: "All of it, TOML", what: "Name, money, planning, hours, materials, models, machines, prices and the rule of backups: to be kept, compared, and taken to another shop." },
  { format: "csv", name: "Machines, CSV", what: "A row for each machine, to be edited in a spreadsheet: rows that are added are machines that are added." },
  { format: "json", name: "Catalogue, JSON", what: "Models with their sequences, and materials of your own." },
];
const formatOf = (name: string): Format => FORMATS.find((f) => name.toLowerCase().endsWith(`.${f.format}`))?.format ?? "toml";

interface Given {
  text: string;
  format: Format;
}

/** The set-up as a file: take it away, or have the shop be as one says. */
export function SetupFileSheet() {
  const may = useMay()("set_up") === null;
  if (!may) return null;
  return (
    <Sheet className="min-w-0">
      <SheetTitle>The set-up as a file</SheetTitle>
      <div className="flex flex-col gap-3 px-5 pb-4">
        <ul className="m-0 list-none divide-y divide-rule border-y border-rule p-0">
          {FORMATS.map((f) => (
            <li key={f.format} className="grid items-center gap-x-4 gap-y-1 py-2.5 sm:grid-cols-[11rem_1fr]">
              <a href={`/api/setup-file?format=${f.format}`} download className="underline">
                {f.name}
              </a>
              <span className="text-sm text-faded">{f.what}</span>
            </li>
          ))}
        </ul>
        <ApplyFile />
      </div>
    </Sheet>
  );
}

/** Many machines at once, from a table. */
export function ManyMachines() {
  if (!useFirstSteps().isSuccess) return null;
  return (
    <div className="flex flex-col gap-1.5 text-left">
      <ApplyFile action="Add many from a table…" label="A table of machines" of={["csv"]} />
      <span className="text-sm text-faded">
        A row for each machine, as in{" "}
        <a href="/api/setup-file?format=csv" download className="underline">
          the table as it is now
        </a>{" "}
        (CSV).
      </span>
    </div>
  );
}

/** Has the shop be as a file says, once it was shown what would change. */
function ApplyFile({ action = "Apply a file…", label = "A set-up file", of = ["toml", "csv", "json"] }: { action?: string; label?: string; of?: Format[] }) {
  const picker = useRef<HTMLInputElement>(null);
  const [given, setGiven] = useState<Given>({ text: "", format: "toml" });
  const [large, setLarge] = useState<Error | null>(null);
  const [found, setFound] = useState<SetupDone | null>(null);
  const look = useChange((one: Given) => value(api.POST("/api/setup-file", { body: { ...one, dry_run: true } })).then(setFound));
  const read = async (file?: File) => {
    if (!file) return;
    setLarge(file.size > MOST ? new Error(`${file.name} is larger than any set-up is.`) : null);
    if (file.size > MOST) return;
    const one = { text: await file.text(), format: formatOf(file.name) };
    setGiven(one);
    look.mutate(one);
  };
  return (
    <>
      <div>
        <Button asked={look.isPending} onClick={() => picker.current?.click()}>
          {action}
        </Button>
        <input
          ref={picker}
          type="file"
          accept={of.map((f) => `.${f}`).join(",")}
          aria-label={label}
          className="sr-only"
          tabIndex={-1}
          onChange={(e) => {
            void read(e.target.files?.[0]);
            e.target.value = "";
          }}
        />
      </div>
      <Refusal error={large ?? look.error} />
      {found && <Would done={found} given={given} close={() => setFound(null)} />}
    </>
  );
}

function Would({ done, given, close }: { done: SetupDone; given: Given; close: () => void }) {
  const apply = useChange(() => value(api.POST("/api/setup-file", { body: { ...given, dry_run: false } })).then(close), ...TOUCHES);
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
