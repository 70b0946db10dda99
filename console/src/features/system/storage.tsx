import { size, width } from "../../ui/format";
import { Sheet, SheetTitle } from "../../ui/page";
import { useFilmStanding } from "../watching/film-queries";
import { useFrameCost, useWatching } from "../watching/queries";
import { useHeatStanding } from "./queries";

/** What is kept, and how much of its share of the disk it takes. */
export function Storage() {
  const watching = useWatching().data;
  const frames = useFrameCost(watching?.keep_every_s ?? 30).data;
  const films = useFilmStanding().data;
  const heat = useHeatStanding().data;
  const rows = [
    frames && watching && { name: "Camera frames", now: frames.now_gb, most: watching.frames_gb ?? 0, says: "of their share" },
    films && { name: "Films", now: films.now_gb, most: films.share_gb, says: "of their share" },
    heat && { name: "Heat and power over time", now: heat.now_gb, most: heat.most_gb, says: "at most, with these machines" },
  ].filter((row) => row !== undefined);
  return (
    <Sheet>
      <SheetTitle>What is kept</SheetTitle>
      <ul className="m-0 list-none p-0 px-5 pb-4">
        {rows.map((row) => (
          <li key={row.name} className="py-1.5">
            <span className="flex flex-wrap justify-between gap-x-4">
              {row.name}
              <span className="text-faded">
                <span className="font-medium text-ink">{size(row.now * 1e9)}</span> of {size(row.most * 1e9)} {row.says}
              </span>
            </span>
            <span aria-hidden className="mt-1 block h-1 rounded-full bg-sunk">
              <span className="block h-full rounded-full bg-faded" style={{ width: width(Math.min(1, row.most ? row.now / row.most : 0)) }} />
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
