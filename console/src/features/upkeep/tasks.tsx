import { useState } from "react";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { type UpkeepTask, useUpkeepTasks } from "./queries";
import { TaskDialog } from "./task-dialog";

const UNITS = [
  ["hours", "h"],
  ["builds", "builds"],
  ["metres", "m"],
  ["days", "days"],
] as const;

export const dueWords = (due: UpkeepTask["due"]) =>
  [...UNITS.filter(([rule]) => due[rule]).map(([rule, unit]) => `${due[rule]} ${unit}`), ...(due.faults ?? []).map((word) => `a fault with “${word}”`)].join(" or ");

/** What must be done again and again, and what it does to a machine when it is due. */
export function Tasks({ checks = false }: { checks?: boolean }) {
  const tasks = useUpkeepTasks();
  const [changing, setChanging] = useState<UpkeepTask | null>(null);
  const drop = useChange((number: number) => value(api.DELETE("/api/upkeep/tasks/{number}", { params: { path: { number } } })), "upkeep");
  const shown = (tasks.data ?? []).filter((t) => Boolean(t.check) === checks);
  if (tasks.data && shown.length === 0) return null;
  return (
    <Sheet className="min-w-0">
      <SheetTitle>{checks ? "The checks" : "The tasks"}</SheetTitle>
      {tasks.error ? (
        <Failed error={tasks.error} again={() => tasks.refetch()} />
      ) : !tasks.data ? (
        <Loading rows={3} />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
          {shown.map((t) => (
            <li key={t.id} className="grid grid-cols-[1fr_auto] items-center gap-x-3 px-5 py-2">
              <span className="min-w-0">
                {t.name} <span className="text-faded">{t.machine || t.model || "all machines"}</span>
                <span className="block text-sm text-faded">
                  after {dueWords(t.due)}
                  {t.blocks !== "nothing" && `; ${t.blocks} when due`}
                  {t.check && `; ${t.check.nominal} ± ${t.check.tolerance} ${t.check.unit}`}
                </span>
              </span>
              <span className="flex">
                <Button needs="set_up" kind="quiet" onClick={() => setChanging(t)}>
                  Change
                </Button>
                <Button needs="set_up" kind="quiet" asked={drop.isPending && drop.variables === t.id} onClick={() => drop.mutate(t.id)}>
                  Drop
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      <div className="px-5">
        <Refusal error={drop.error} />
      </div>
      {changing && <TaskDialog task={changing} close={() => setChanging(null)} />}
    </Sheet>
  );
}
