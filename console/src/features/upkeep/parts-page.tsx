import { Link } from "react-router";

import { day, percent, width } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { type FittedPart, useParts } from "./queries";
import { UpkeepLinks } from "./upkeep-links";

const hours = (h: number) => Math.round(h).toLocaleString("en-GB");

/** Wear parts: how long each has been on its machine, beside how long such parts last. */
export function WearPartsPage() {
  const parts = useParts();
  const byPart = new Map<string, FittedPart[]>();
  for (const one of parts.data ?? []) byPart.set(one.part, [...(byPart.get(one.part) ?? []), one]);
  return (
    <Page title="Upkeep" beside={<UpkeepLinks />}>
      {parts.error ? (
        <Sheet>
          <Failed error={parts.error} again={() => parts.refetch()} />
        </Sheet>
      ) : !parts.data ? (
        <Sheet>
          <Loading rows={5} />
        </Sheet>
      ) : byPart.size === 0 ? (
        <Sheet>
          <Empty title="No part was replaced yet">Say in a task which part it replaces, like nozzle or belt. How long such parts last is learned from when they are replaced.</Empty>
        </Sheet>
      ) : (
        [...byPart].map(([part, rows]) => <Kind key={part} part={part} rows={rows} />)
      )}
    </Page>
  );
}

/** One kind of part on all machines, on one scale of hours. */
function Kind({ part, rows }: { part: string; rows: FittedPart[] }) {
  const most = Math.max(1, ...rows.map((r) => Math.max(r.hours, r.life?.late ?? 0))) * 1.05;
  const sorted = [...rows].sort((a, b) => (a.left ?? 2) - (b.left ?? 2) || b.hours - a.hours);
  return (
    <Sheet className="mb-5">
      <h2 className="m-0 px-5 pt-4 pb-2 text-lg font-semibold first-letter:uppercase">{part}</h2>
      <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
        {sorted.map((r) => (
          <li key={r.machine} className="grid items-center gap-x-5 gap-y-1 px-5 py-2 sm:grid-cols-[9rem_minmax(0,1fr)_15rem]">
            <span className="min-w-0">
              <Link to={`/machines/${r.machine}`} className="font-semibold">
                {r.machine}
              </Link>
              <span className="block text-sm text-faded">{r.fitted ? `since ${day(r.fitted)}` : "fitted before the records"}</span>
            </span>
            <Life part={r} most={most} />
            <span className="text-sm text-faded sm:text-right">
              {r.left == null ? "not known yet how long it lasts" : `${percent(r.left)} likely to last 100 h more`}
              <span className="block">
                {Object.entries(r.grams)
                  .sort(([, a], [, b]) => b - a)
                  .slice(0, 3)
                  .map(([material, grams]) => `${(grams / 1000).toFixed(1)} kg ${material}`)
                  .join(", ") || `${r.builds} builds`}
              </span>
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

/** The hours it has done on the span in which four of five such parts wear out. */
function Life({ part: r, most }: { part: FittedPart; most: number }) {
  const late = r.life && r.hours > r.life.median;
  return (
    <span className="min-w-0">
      <span className="relative block h-3" role="img" aria-label={r.text}>
        <span className="absolute inset-y-1 left-0 right-0 rounded-full bg-sunk" />
        {r.life && <span className="absolute inset-y-0 rounded-sm border border-rule bg-sunk" style={{ left: width(r.life.early / most), width: width((r.life.late - r.life.early) / most) }} />}
        <span className={`absolute inset-y-1 left-0 rounded-full ${late ? "bg-alarm" : "bg-ink"}`} style={{ width: width(Math.min(1, r.hours / most)) }} />
      </span>
      <span className="text-sm">
        {r.life ? (
          <>
            at {hours(r.hours)} h; usually lasts {hours(r.life.early)} to {hours(r.life.late)} h <span className="text-faded">(from {r.life.worn} that wore out)</span>
          </>
        ) : (
          <>at {hours(r.hours)} h</>
        )}
      </span>
    </span>
  );
}
