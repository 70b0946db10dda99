import { Fragment } from "react";
import { Link } from "react-router";

import type { LibraryFile } from "../../api/client";
import { duration, metres, size } from "../../ui/format";
import { useGrams } from "../machines/queries";
import { Fact, Sheet, SheetTitle } from "../../ui/page";

/** All that the reading says, and the objects on the bed to choose from. */
export function Figures({ file: f, chosen, choose }: { file: LibraryFile; chosen: string | null; choose: (name: string | null) => void }) {
  const grams = useGrams();
  const r = f.reading;
  const said = r.declared;
  const filament = Object.entries(r.filament_mm);
  const box = (b: typeof r.extents_mm) =>
    b && (
      <span className="grid grid-cols-[auto_auto] gap-x-2">
        {["x", "y", "z"].map((a, i) => (
          <Fragment key={a}>
            <span className="text-faded">{a}</span> {b[0]![i]!.toFixed(1)} to {b[1]![i]!.toFixed(1)} mm
          </Fragment>
        ))}
      </span>
    );
  const expected = f.expected?.[r.model ?? ""];
  const objects = r.objects ?? [];
  const parts: [string, number | undefined][] = [
    ["heating", r.heating_s],
    ["homing and the like", r.other_s],
    ["dwelling", r.dwell_s],
  ];
  return (
    <Sheet>
      <SheetTitle beside={r.model}>What it says</SheetTitle>
      <dl className="m-0 px-5 pb-4">
        <Fact name="Planned time">{duration(r.planned_s)}</Fact>
        {parts
          .filter(([, s]) => (s ?? 0) >= 1)
          .map(([name, s]) => (
            <Fact key={name} name={`of it ${name}`}>
              {duration(s!)}
            </Fact>
          ))}
        {said?.seconds != null && <Fact name="The slicer says">{duration(said.seconds)}</Fact>}
        {expected != null && <Fact name="Expected, as such machines go">{duration(expected)}</Fact>}
        {(r.pauses ?? []).map((p) => (
          <Fact key={p.line} name={`Asks for hands, line ${p.line}`}>
            {p.meaning}
          </Fact>
        ))}
        <Fact name="Layers">
          {r.layers}
          {r.layer_height_mm ? ` of ${r.layer_height_mm} mm` : ""}
          {r.spiral ? ", one spiral" : ""}
          {r.by_object ? ", object after object" : ""}
        </Fact>
        {filament.map(([tool, mm]) => (
          <Fact key={tool} name={filament.length > 1 ? `Filament, tool ${tool}` : "Filament"}>
            {metres(mm)}, {((Math.PI / 4) * 1.75 ** 2 * mm * 1e-3).toFixed(1)} cm³, {grams(mm, said?.material)}
          </Fact>
        ))}
        <Fact name="Sliced for">
          {[said?.material, said?.nozzle_mm ? `${said.nozzle_mm} mm nozzle` : "", said?.model].filter(Boolean).join(", ") || "not said"}
        </Fact>
        <Fact name="Highest asked">
          nozzle {r.nozzle_c.toFixed(0)} °C, bed {r.bed_c.toFixed(0)} °C
        </Fact>
        {r.extents_mm && <Fact name="Lays">{box(r.extents_mm)}</Fact>}
        {r.travel_mm && <Fact name="Moves">{box(r.travel_mm)}</Fact>}
        <Fact name="Lines">{r.lines.toLocaleString("en-GB")}</Fact>
        <Fact name="Size">{size(f.size)}</Fact>
        {Object.keys(r.unknown ?? {}).length > 0 && (
          <Fact name="Unknown words">
            {Object.entries(r.unknown ?? {})
              .slice(0, 8)
              .map(([w, n]) => `${w} (${n})`)
              .join(", ")}
          </Fact>
        )}
        {f.part && (
          <Fact name="Makes">
            <Link to={`/library/parts/${f.part_id}`}>{f.part}</Link>
          </Fact>
        )}
        {f.notes && <Fact name="Notes">{f.notes}</Fact>}
        {Object.keys(f.times ?? {}).length > 1 &&
          Object.entries(f.times ?? {}).map(([name, s]) => (
            <Fact key={name} name={`On ${name}`}>
              {duration(s)}
            </Fact>
          ))}
      </dl>
      {objects.length > 0 && (
        <div className="border-t border-rule px-5 py-3">
          <div className="mb-1.5 text-sm text-faded">
            {objects.length === 1 ? "1 object" : `${objects.length} objects`} on the bed
            {objects.some((o) => !o.marked) && ", told apart by their footprints"}
          </div>
          <div className="flex max-h-40 flex-wrap gap-1.5 overflow-auto">
            {objects.map((o) => (
              <button
                key={o.name}
                type="button"
                aria-pressed={o.name === chosen}
                onClick={() => choose(o.name === chosen ? null : o.name)}
                className={`rounded-md border px-2 py-0.5 text-sm ${o.name === chosen ? "border-ink bg-ink text-ground" : "border-rule hover:bg-sunk"}`}
              >
                {o.name}
              </button>
            ))}
          </div>
        </div>
      )}
    </Sheet>
  );
}
