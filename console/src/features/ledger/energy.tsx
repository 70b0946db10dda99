import type { EnergyRow, MachineState } from "../../api/client";
import { day as dayName } from "../../ui/format";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { useEnergy, wh } from "../machines/power-queries";

const SHOWN: MachineState[] = ["building", "warming", "idle", "offline"];

/** A bar a day. */
function Days({ rows }: { rows: EnergyRow[] }) {
  const most = Math.max(...rows.map((r) => r.wh));
  return (
    <ol className="m-0 flex list-none items-end gap-2 overflow-x-auto border-t border-rule px-5 py-4" aria-label="By day">
      {rows.map((r) => (
        <li key={r.day} className="min-w-16 flex-1 text-center text-sm">
          <span className="flex h-16 items-end">
            <span aria-hidden className="block w-full rounded-t bg-faded/50" style={{ height: `${((100 * r.wh) / most).toFixed(1)}%` }} />
          </span>
          <span className="block font-medium">{wh(r.wh)}</span>
          <span className="block text-faded">{dayName(`${r.day}T12:00:00Z`)}</span>
        </li>
      ))}
    </ol>
  );
}

/** What machines drew between two days, by machine and state; and the days that drew most. */
export function Energy({ from, to }: { from: string; to: string }) {
  const [begin, end] = [from.slice(0, 10), to.slice(0, 10)];
  const rows = useEnergy({ by: "machine,state", begin, end });
  const days = useEnergy({ by: "day", begin, end }).data ?? [];
  if (rows.error || rows.isPending)
    return <Sheet>{rows.error ? <Failed error={rows.error} again={() => rows.refetch()} /> : <Loading rows={3} />}</Sheet>;
  const machines = [...new Set(rows.data.map((r) => r.machine ?? ""))];
  const sum = (of: EnergyRow[]) => of.reduce((total, r) => total + r.wh, 0);
  const of = (machine: string, state?: MachineState) => sum(rows.data.filter((r) => r.machine === machine && (!state || r.state === state)));
  const rest = (machine: string) => of(machine) - SHOWN.reduce((total, state) => total + of(machine, state), 0);
  return (
    <Sheet className="mt-5 overflow-x-auto">
      <SheetTitle beside={days.length > 0 ? `${wh(sum(days) / days.length)} a day` : undefined}>Energy</SheetTitle>
      {machines.length === 0 ? (
        <Empty title="No plug has measured anything in this span">Machines on metered plugs are counted by state, build and day.</Empty>
      ) : (
        <table className="w-full min-w-[34rem] text-right">
          <thead>
            <tr className="text-sm text-faded">
              <th className="px-5 py-2 text-left font-normal">Machine</th>
              {SHOWN.map((state) => (
                <th key={state} className="px-3 py-2 font-normal">
                  {state}
                </th>
              ))}
              <th className="px-3 py-2 font-normal">other</th>
              <th className="px-5 py-2 font-normal">in all</th>
            </tr>
          </thead>
          <tbody>
            {machines.map((machine) => (
              <tr key={machine} className="border-t border-rule">
                <td className="px-5 py-2 text-left">{machine}</td>
                {SHOWN.map((state) => (
                  <td key={state} className="px-3 py-2 text-faded">
                    {wh(of(machine, state))}
                  </td>
                ))}
                <td className="px-3 py-2 text-faded">{wh(Math.max(0, rest(machine)))}</td>
                <td className="px-5 py-2 font-semibold">{wh(of(machine))}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {days.length > 1 && <Days rows={days} />}
    </Sheet>
  );
}
