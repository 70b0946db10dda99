import { useQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { Link, useParams } from "react-router";

import { api, type FileReading, value } from "../../api/client";
import { useRevisions } from "./queries";
import { useModels } from "../machines/queries";
import { useAddress } from "../../ui/address";
import { duration, metres, sum } from "../../ui/format";
import { useGrams } from "../machines/queries";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { Viewer } from "../../viewer/viewer";
import { Changes } from "../gcode/edit-dialog";

/** Two revisions side by side, layer by layer, with what changed. */
export function ComparePage() {
  const grams = useGrams();
  const which = useParams().which ?? "";
  const [get, change] = useAddress();
  const revisions = useRevisions(which);
  const list = revisions.data ?? [];
  const later = Number(get("later") || (list[0]?.number ?? 0));
  const earlier = Number(get("earlier") || later - 1);
  const found = useQuery({
    enabled: later > 0 && earlier > 0,
    queryKey: ["files", "difference", which, earlier, later],
    queryFn: () =>
      value(api.GET("/api/files/{which}/difference", { params: { path: { which }, query: { earlier, later } } })),
  });
  const models = useModels().data ?? [];
  const [layer, setLayer] = useState<number | null>(null);
  const d = found.data;
  const lines = useMemo(() => new Set((d?.changes ?? []).flatMap((c) => (c.after ? c.after.split("\n") : []).map((_, i) => c.line + i))), [d]);
  const pick = (name: string, chosen: number) => (
    <select
      aria-label={name === "earlier" ? "Earlier revision" : "Later revision"}
      className="rounded-md border border-rule bg-sheet px-2 py-1 text-ink"
      value={chosen}
      onChange={(e) => change({ [name]: e.target.value })}
    >
      {list.map((r) => (
        <option key={r.number} value={r.number}>
          {r.number}: {r.how.slice(0, 50)}
        </option>
      ))}
    </select>
  );
  const sha = (n: number) => list.find((r) => r.number === n)?.sha256;
  const bedOf = (r: FileReading): [number, number] => {
    const m = models.find((x) => x.name === r.model);
    return m ? [m.volume_mm![0]!, m.volume_mm![1]!] : [220, 220];
  };
  const side = (r: FileReading, n: number, stress: boolean) => (
    <Sheet className="min-w-0 overflow-hidden">
      <SheetTitle
        beside={`${duration(r.planned_s)} · ${metres(sum(Object.values(r.filament_mm)))} · ${grams(sum(Object.values(r.filament_mm)), r.declared?.material)}`}
      >
        Revision {n}
      </SheetTitle>
      {sha(n) && (
        <Viewer
          sha256={sha(n)!}
          model={r.model ?? ""}
          layers={r.layers}
          bed={bedOf(r)}
          objects={r.objects}
          layer={layer ?? d!.layers[0] ?? 1}
          onLayer={setLayer}
          stress={stress ? (line) => lines.has(line) : undefined}
          height="h-[44vh] min-h-72"
        />
      )}
    </Sheet>
  );
  return (
    <Page
      title={
        <span className="flex flex-col">
          <Link to={`/library/files/${which}`} className="text-sm font-normal text-faded">
            Back to the file
          </Link>
          Compare
        </span>
      }
      beside={
        <div className="flex flex-wrap items-center gap-2">
          {pick("earlier", earlier)} <span className="text-faded">with</span> {pick("later", later)}
        </div>
      }
    >
      {found.error || revisions.error ? (
        <Sheet>
          <Failed error={(found.error ?? revisions.error)!} again={() => void found.refetch()} />
        </Sheet>
      ) : !d ? (
        <Sheet>
          {list.length === 1 ? <Empty title="One revision only">Change the file, and there is something to compare.</Empty> : <Loading rows={6} />}
        </Sheet>
      ) : (
        <div className="flex flex-col gap-5">
          <div className="grid gap-5 lg:grid-cols-2">
            {side(d.earlier_reading, d.earlier, false)}
            {side(d.later_reading, d.later, true)}
          </div>
          <Sheet>
            <SheetTitle beside={`${d.changes.length}${d.more ? " and more" : ""} ${d.changes.length === 1 ? "place" : "places"}`}>
              What changed
            </SheetTitle>
            {d.layers.length > 0 && (
              <p className="m-0 flex flex-wrap items-center gap-1.5 px-5 pb-2 text-sm text-faded">
                In layers
                {d.layers.slice(0, 40).map((n) => (
                  <button
                    key={n}
                    type="button"
                    className={`rounded border border-rule px-1.5 ${n === layer ? "bg-ink text-ground" : "text-ink hover:bg-sunk"}`}
                    onClick={() => setLayer(n)}
                  >
                    {n}
                  </button>
                ))}
                {d.layers.length > 40 && `and ${d.layers.length - 40} more`}
              </p>
            )}
            <div className="px-5 pb-4">
              {d.changes.length === 0 ? <p className="m-0 text-faded">Nothing: the contents are the same.</p> : <Changes changes={d.changes.slice(0, 12)} />}
            </div>
          </Sheet>
        </div>
      )}
    </Page>
  );
}
