import { useState } from "react";

import { api, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useMachines } from "../machines/queries";
import { useUpkeep } from "./queries";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { clock, fromLocal, localInput, sameDay, when } from "../../ui/format";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { MachineField } from "../machines/machine-field";
import { TimeField } from "../../ui/time-field";

/** Spans in which a machine is kept free: no build that would reach into one starts there. */
export function UpkeepWindows() {
  const windows = useUpkeep();
  const now = useNow(60_000);
  const [adding, setAdding] = useState(false);
  const drop = useChange((number: number) => value(api.DELETE("/api/upkeep-windows/{number}", { params: { path: { number } } })), "setup", "plan", "jobs");
  return (
    <Sheet className="min-w-0">
      <SheetTitle
        beside={
          <button type="button" className="text-ink underline" onClick={() => setAdding(true)}>
            Keep a machine free
          </button>
        }
      >
        Upkeep to come
      </SheetTitle>
      {windows.error ? (
        <Failed error={windows.error} again={() => windows.refetch()} />
      ) : windows.isPending ? (
        <Loading rows={2} height="h-11" />
      ) : windows.data.length === 0 ? (
        <p className="m-0 px-5 pb-4 text-faded">None. A machine that is kept free starts no build that would reach into the time.</p>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
          {windows.data.map((u) => (
            <li key={u.id} className="flex flex-wrap items-center gap-x-4 px-5 py-1.5">
              <span className="min-w-0 flex-1">
                {u.machine}
                {u.text && `: ${u.text}`}
                <span className="block text-sm text-faded">
                  {when(u.begin, now)} to {sameDay(u.begin, u.end) ? clock(u.end) : when(u.end, now)}
                </span>
              </span>
              <Button kind="quiet" asked={drop.isPending} onClick={() => drop.mutate(u.id)}>
                Not needed
              </Button>
            </li>
          ))}
        </ul>
      )}
      <div className="px-5">
        <Refusal error={drop.error} />
      </div>
      {adding && <KeepFree close={() => setAdding(false)} />}
    </Sheet>
  );
}

function KeepFree({ close }: { close: () => void }) {
  const machines = useMachines().data ?? [];
  const now = useNow(600_000);
  const hour = (after: number) => localInput(new Date(Math.ceil(now.getTime() / 3600_000 + after) * 3600_000));
  const [machine, setMachine] = useState(machines[0]?.name ?? "");
  const [begin, setBegin] = useState(hour(0));
  const [end, setEnd] = useState(hour(1));
  const [text, setText] = useState("");
  const add = useChange(
    () =>
      value(
        api.POST("/api/upkeep-windows", {
          body: { machine, begin: fromLocal(begin).toISOString(), end: fromLocal(end).toISOString(), text },
        }),
      ).then(close),
    "setup",
    "plan",
    "jobs",
  );
  return (
    <FormDialog
      title="Keep a machine free"
      text="No build that would reach into this time starts on it."
      close={close}
      send={() => add.mutate(undefined)}
      asked={add.isPending}
      error={add.error}
      action="Keep it free"
    >
      <MachineField value={machine} set={setMachine} />
      <Field label="What for">
        <input className={inputLook} value={text} onChange={(e) => setText(e.target.value)} placeholder="new belts" />
      </Field>
      <div className="flex flex-col gap-3">
        <Field label="From">
          <TimeField value={begin} change={setBegin} />
        </Field>
        <Field label="Until">
          <TimeField value={end} change={setEnd} />
        </Field>
      </div>
    </FormDialog>
  );
}
