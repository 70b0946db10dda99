import { useState } from "react";
import { Link } from "react-router";

import { Button } from "../../ui/button";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { DueRow } from "./due-row";
import { type DueTask, useDue } from "./queries";
import { TaskDialog } from "./task-dialog";
import { Tasks } from "./tasks";
import { UpkeepLinks } from "./upkeep-links";

const SOON = 0.75;

/** What is due at the machines and what will be soon, with the time that costs least; and what the tasks are. */
export function DuePage() {
  const due = useDue();
  const [adding, setAdding] = useState(false);
  const all = due.data ?? [];
  const now = all.filter((one) => one.due || one.out);
  const soon = all.filter((one) => !now.includes(one) && (one.share ?? 1) >= SOON);
  const later = all.filter((one) => !now.includes(one) && !soon.includes(one));
  return (
    <Page
      title="Upkeep"
      beside={
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          <UpkeepLinks />
          <Button kind="strong" onClick={() => setAdding(true)}>
            Add a task
          </Button>
        </div>
      }
    >
      <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
        <Sheet className="min-w-0">
          {due.error ? (
            <Failed error={due.error} again={() => due.refetch()} />
          ) : !due.data ? (
            <Loading rows={5} />
          ) : all.length === 0 ? (
            <Empty title="There are no tasks">
              Add what must be done again and again, like a nozzle to clean each 200 hours: it says when it is due, and asks for the time that costs least.
            </Empty>
          ) : (
            <>
              <Group title="Due now" rows={now} none="Nothing is due." />
              <Group title="Soon" rows={soon} />
              <Later rows={later} />
            </>
          )}
        </Sheet>
        <Tasks />
      </div>
      {adding && <TaskDialog close={() => setAdding(false)} />}
    </Page>
  );
}

function Group({ title, rows, none }: { title: string; rows: DueTask[]; none?: string }) {
  if (rows.length === 0 && !none) return null;
  return (
    <>
      <SheetTitle>{rows.length ? `${title}, ${rows.length}` : title}</SheetTitle>
      {rows.length === 0 && <p className="mx-5 mt-0 mb-4 text-faded">{none}</p>}
      <ul className="m-0 mb-3 list-none divide-y divide-rule p-0">
        {rows.map((one) => (
          <DueRow key={`${one.task} ${one.machine}`} due={one} />
        ))}
      </ul>
    </>
  );
}

/** What is far off: a line each, folded away. */
function Later({ rows }: { rows: DueTask[] }) {
  if (rows.length === 0) return null;
  return (
    <details className="border-t border-rule">
      <summary className="cursor-pointer px-5 py-3 text-faded">{rows.length} more, further off</summary>
      <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
        {rows.map((one) => (
          <li key={`${one.task} ${one.machine}`} className="grid grid-cols-[1fr_auto] gap-x-4 px-5 py-1.5">
            <span className="min-w-0 truncate">
              <Link to={`/machines/${one.machine}`}>{one.machine}</Link> <span className="text-faded">{one.name}</span>
            </span>
            <span className="text-sm text-faded">{one.text}</span>
          </li>
        ))}
      </ul>
    </details>
  );
}
