import { Link } from "react-router";

import { Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { DueRow } from "./due-row";
import { useDue, useParts } from "./queries";

const SHOWN = 4;

/** What is due at one machine, and how far its wear parts are. */
export function MachineUpkeep({ name }: { name: string }) {
  const due = useDue(name);
  const parts = useParts(name);
  const all = due.data ?? [];
  const shown = all.filter((one, n) => one.due || one.out || n < SHOWN);
  return (
    <Sheet>
      <SheetTitle
        beside={
          <span className="flex gap-4">
            {all.length > shown.length && <Link to="/upkeep">{all.length - shown.length} more</Link>}
            <Link to={`/upkeep/log?machine=${encodeURIComponent(name)}`}>its log</Link>
          </span>
        }
      >
        Upkeep
      </SheetTitle>
      {due.error ? (
        <Failed error={due.error} again={() => due.refetch()} />
      ) : !due.data ? (
        <Loading rows={2} />
      ) : (
        <>
          {all.length === 0 && (
            <p className="mx-5 mt-0 mb-3 text-faded">
              No task is set for it. <Link to="/upkeep">Add one.</Link>
            </p>
          )}
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {shown.map((one) => (
              <DueRow key={one.task} due={one} alone />
            ))}
          </ul>
          {(parts.data?.length ?? 0) > 0 && (
            <p className="mx-5 mt-1 mb-4 text-sm text-faded">
              {parts.data!.map((one) => (
                <span key={one.part} className="block">
                  {one.part}: {one.text}
                </span>
              ))}
            </p>
          )}
        </>
      )}
    </Sheet>
  );
}
