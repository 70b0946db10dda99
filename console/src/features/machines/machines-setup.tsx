import { type ReactNode, useState } from "react";
import { Link } from "react-router";

import type { Machine } from "../../api/client";
import { Button } from "../../ui/button";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { StateMark } from "../../ui/state";
import { useMay } from "../../api/may";
import { ChangeDialog } from "./change-dialog";
import { Likeness } from "./photo";
import { JoinDialog } from "./join-dialog";
import { useMachines } from "./queries";

/** The machines there are: where each is reached, and whether it answers. */
export function MachinesSetup({ title = "Machines", many }: { title?: string; many?: ReactNode }) {
  const machines = useMachines();
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Machine | null>(null);
  const may = useMay()("set_up") === null;
  const rows = [...(machines.data ?? [])].sort((a, b) => a.name.localeCompare(b.name));
  const add = (
    <span className="inline-flex flex-wrap items-center gap-2">
      {may && (
        <Link to="/setup/finding" className={`inline-flex min-h-9 items-center rounded-md px-3.5 text-sm font-medium no-underline ${rows.length ? "border border-rule bg-sheet text-ink hover:bg-sunk" : "bg-ink text-ground hover:opacity-85"}`}>
          Find machines
        </Link>
      )}
      <Button kind={rows.length || may ? "plain" : "strong"} onClick={() => setAdding(true)}>
        Add one by its address…
      </Button>
    </span>
  );
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={rows.length > 0 && `${rows.length}`}>{title}</SheetTitle>
      {machines.error ? (
        <Failed error={machines.error} again={() => machines.refetch()} />
      ) : machines.isPending ? (
        <Loading rows={3} height="h-11" />
      ) : rows.length === 0 ? (
        <Empty title="No machine yet">
          They are found where a tender sees them, or added by the address at which they are reached.
          <div className="mt-4 flex flex-col gap-4">
            {add}
            {many}
          </div>
        </Empty>
      ) : (
        <>
          <ul className="m-0 max-h-96 list-none divide-y divide-rule overflow-auto p-0">
            {rows.map((m) => (
              <li key={m.name} className="grid grid-cols-[auto_1fr_auto_auto] items-center gap-x-3 px-5 py-2">
                <Likeness machine={m} />
                <span className="min-w-0">
                  <Link to={`/machines/${m.name}`} className="text-inherit no-underline hover:underline">
                    {m.name}
                  </Link>{" "}
                  <span className="text-sm text-faded">{[m.model, m.site, m.place].filter(Boolean).join(" · ")}</span>
                </span>
                <StateMark state={m.state} />
                <Button kind="quiet" aria-label={`Change ${m.name}`} onClick={() => setChanging(m)}>
                  Change…
                </Button>
                {m.state === "offline" && <span className="col-span-3 col-start-2 text-sm text-faded">{m.reason || "It does not answer yet."}</span>}
              </li>
            ))}
          </ul>
          <div className="flex flex-col gap-3 border-t border-rule px-5 py-3">
            {add}
            {many}
          </div>
        </>
      )}
      {changing && <ChangeDialog machine={changing} close={() => setChanging(null)} />}
      {adding && <JoinDialog close={() => setAdding(false)} />}
    </Sheet>
  );
}
