import { useState } from "react";
import { Link } from "react-router";

import type { Plug } from "../../api/client";
import { Button } from "../../ui/button";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { PlugDialog } from "./plug-dialog";
import { usePlugs } from "./power-queries";

/** Every machine that hangs on a plug: what it says, and when it is turned. */
export function PlugsSetup() {
  const plugs = usePlugs();
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Plug | null>(null);
  const rows = plugs.data ?? [];
  return (
    <Sheet className="min-w-0">
      <span id="plugs" />
      <SheetTitle
        beside={
          <button type="button" className="text-ink underline" onClick={() => setAdding(true)}>
            Add a plug
          </button>
        }
      >
        Plugs
      </SheetTitle>
      {plugs.error ? (
        <Failed error={plugs.error} again={() => plugs.refetch()} />
      ) : plugs.isPending ? (
        <Loading rows={3} height="h-11" />
      ) : rows.length === 0 ? (
        <Empty title="No machine hangs on a plug">A metered plug says what a machine draws, and turns it off when there is nothing to do.</Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {rows.map((p) => (
            <li key={p.machine} className="grid grid-cols-[1fr_auto] items-center gap-x-4 px-5 py-1.5">
              <span className="min-w-0">
                <Link to={`/machines/${encodeURIComponent(p.machine)}`} className="text-ink">
                  {p.machine}
                </Link>{" "}
                <span className="text-sm text-faded">
                  {p.rules.off_after_min ? `off after ${p.rules.off_after_min} min without work` : "turned by hand only"}
                </span>
                <span className="block truncate text-sm text-faded" title={p.address}>
                  {p.power?.trouble ? <span className="text-alarm">{p.power.trouble}</span> : `${p.profile}, ${p.address}`}
                </span>
              </span>
              <Button kind="quiet" onClick={() => setChanging(p)}>
                Change
              </Button>
            </li>
          ))}
        </ul>
      )}
      {adding && <PlugDialog close={() => setAdding(false)} />}
      {changing && <PlugDialog plug={changing} close={() => setChanging(null)} />}
    </Sheet>
  );
}
