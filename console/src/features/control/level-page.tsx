import { useState } from "react";
import { Link, useParams } from "react-router";

import { useNow } from "../../api/live";
import { useLevelMaps } from "./queries";
import { useMachine, useMachines } from "../machines/queries";
import { Button } from "../../ui/button";
import { duration, when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useDark } from "../../ui/theme";
import { useAct } from "./act";

/** Low to high: blue through paper to brown, a scale that colour-blind eyes can read; figures stand in every cell. */
function tone(mm: number, reach: number, dark: boolean): { background: string; color: string } {
  const t = Math.max(-1, Math.min(1, mm / (reach || 1)));
  const share = Math.round(Math.abs(t) * (dark ? 92 : 78));
  const hue = t < 0 ? "var(--cooling)" : "var(--warming)";
  return { background: `color-mix(in oklab, ${hue} ${share}%, var(--sheet))`, color: share > (dark ? 62 : 52) ? "var(--sheet)" : "var(--ink)" };
}

/** How level the bed is, and was: the machine's own answer as a heat map with its figures and its age. */
export function LevelPage() {
  const name = useParams().name ?? "";
  const machine = useMachine(name);
  const live = useMachines().data?.find((m) => m.name.toLowerCase() === name.toLowerCase());
  const maps = useLevelMaps(name);
  const now = useNow(10_000);
  const run = useAct(name, "level");
  const [which, setWhich] = useState(0);
  const [moved, setMoved] = useState(false);
  const dark = useDark();
  const chosen = maps.data?.[Math.min(which, (maps.data?.length ?? 1) - 1)];
  const free = live?.hands?.moment === "free" && live.state !== "down";
  const before = maps.data?.[maps.data.indexOf(chosen!) + 1];
  const sameGrid = chosen && before && before.rows.length === chosen.rows.length && before.rows[0]?.length === chosen.rows[0]?.length;
  const shown = chosen && (moved && sameGrid ? chosen.rows.map((row, y) => row.map((mm, x) => mm - before.rows[y]![x]!)) : chosen.rows);
  const reach = shown ? Math.max(...shown.flat().map(Math.abs)) : 0;
  const measure = (again: boolean) => run.mutate({ kind: "level-map", measure: again }, { onSuccess: () => setWhich(0) });
  return (
    <Page
      title={
        <span className="flex items-baseline gap-3">
          <Link to={`/machines/${name}`} className="no-underline">
            {machine.data?.name ?? name}
          </Link>
          <span className="text-xl font-normal text-faded">level of the bed</span>
        </span>
      }
      beside={
        <div className="flex gap-2">
          <Button disabled={!free} asked={run.isPending && !(run.variables as { measure?: boolean }).measure} onClick={() => measure(false)}>
            Ask the machine
          </Button>
          <Button kind="strong" disabled={!free} asked={run.isPending && (run.variables as { measure?: boolean }).measure === true} onClick={() => measure(true)}>
            Measure anew
          </Button>
        </div>
      }
    >
      <Refusal error={run.error} />
      {!free && live && <p className="mt-0 mb-4 text-faded">While a build runs the bed cannot be measured.</p>}
      {maps.error ? (
        <Sheet>
          <Failed error={maps.error} again={() => void maps.refetch()} />
        </Sheet>
      ) : maps.isPending ? (
        <Sheet>
          <Loading rows={6} />
        </Sheet>
      ) : !chosen ? (
        <Sheet>
          <Empty title="No level map yet">Clear the bed and measure it; the map is kept, so that you see how it changes.</Empty>
        </Sheet>
      ) : (
        <div className="grid gap-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,3fr)]">
          <Sheet>
            <SheetTitle
              beside={
                <span className="flex flex-wrap gap-x-4">
                  {sameGrid && (
                    <label className="flex items-center gap-1.5">
                      <input type="checkbox" checked={moved} onChange={(e) => setMoved(e.target.checked)} /> what moved since {when(before.at, now)}
                    </label>
                  )}
                  <span>
                    {when(chosen.at, now)}, {duration((now.getTime() - Date.parse(chosen.at)) / 1000)} ago
                  </span>
                </span>
              }
            >
              {moved && sameGrid ? "Moved, in mm" : "Heights in mm"}
            </SheetTitle>
            <div className="overflow-x-auto px-5 pb-2">
              <table className="w-full table-fixed border-separate border-spacing-0.5" aria-label={`${moved && sameGrid ? "How far the bed moved" : "Heights of the bed"} in mm, the back row first`}>
                <tbody>
                  {[...shown!].reverse().map((row, y) => (
                    <tr key={y}>
                      {row.map((mm, x) => (
                        <td key={x} className="h-14 min-w-14 rounded-sm p-0 text-center text-sm" style={tone(mm, reach, dark)}>
                          {mm > 0 ? "+" : ""}
                          {mm.toFixed(3)}
                        </td>
                      ))}
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
            <p className="m-0 flex justify-between px-5 pb-4 text-sm text-faded">
              <span>front left</span>
              <span>as seen from the front, the back above</span>
              <span>front right</span>
            </p>
          </Sheet>
          <div className="flex flex-col gap-5">
            <Sheet>
              <SheetTitle>Figures</SheetTitle>
              <dl className="m-0 grid grid-cols-3 gap-3 px-5 pb-4">
                {(
                  [
                    ["Lowest to highest", chosen.range_mm],
                    ["Standard deviation", chosen.deviation_mm],
                    ["Mean", chosen.mean_mm],
                  ] as const
                ).map(([label, mm]) => (
                  <div key={label}>
                    <dt className="text-sm text-faded">{label}</dt>
                    <dd className="m-0 font-serif text-xl font-semibold">{mm.toFixed(3)} mm</dd>
                  </div>
                ))}
              </dl>
            </Sheet>
            <Sheet>
              <SheetTitle beside="lowest to highest">Over time</SheetTitle>
              <ul className="m-0 list-none px-3 pb-3">
                {maps.data.map((map, n) => (
                  <li key={map.at}>
                    <button
                      type="button"
                      aria-pressed={map === chosen}
                      onClick={() => setWhich(n)}
                      className={`flex w-full items-center gap-3 rounded-md px-2 py-1.5 text-left text-sm ${map === chosen ? "bg-sunk" : "hover:bg-sunk/60"}`}
                    >
                      <span className="w-36 shrink-0">{when(map.at, now)}</span>
                      <span className="h-1.5 rounded-full bg-faded" style={{ width: `${Math.min(45, map.range_mm * 100)}%` }} aria-hidden />
                      <span className="ml-auto">{map.range_mm.toFixed(3)} mm</span>
                    </button>
                  </li>
                ))}
              </ul>
            </Sheet>
          </div>
        </div>
      )}
    </Page>
  );
}
