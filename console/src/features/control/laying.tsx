import { useState } from "react";
import { Link } from "react-router";

import type { KeptFrame, MachineDetail } from "../../api/client";
import { useReading } from "../gcode/queries";
import { useBuild } from "../orders/queries";
import { Button } from "../../ui/button";
import { Loading, Sheet, SheetTitle } from "../../ui/page";
import type { BedObject } from "../../viewer/layer-canvas";
import { Viewer } from "../../viewer/viewer";
import { LeaveOut, LeftOut, type Shape, within } from "./leave-out";

/** What of the build is down and what is next, layer by layer, now or as it was; objects can be left out from here. */
export function Laying({ machine: m, back }: { machine: MachineDetail; back?: KeptFrame | null }) {
  const b = m.build!;
  const build = useBuild(b.id);
  const fed = build.data?.fed_sha256 || build.data?.sha256;
  const reading = useReading(fed, m.model);
  const original = useReading(build.data?.sha256, m.model);
  const [leaving, setLeaving] = useState(false);
  const [picked, setPicked] = useState<string[]>([]);
  const [shape, setShape] = useState<Shape | null>(null);
  if (build.error || reading.error) return null;
  const [wide = 220, deep = 220] = m.model_detail.volume_mm ?? [];
  const objects = (original.data?.objects ?? []) as BedObject[];
  const gone = (build.data?.skips ?? []).map((s) => s.object);
  const can = !b.outcome && !m.hands?.runs_file && objects.length > 1 && m.hands?.moment !== "free";
  const done = () => {
    setLeaving(false);
    setPicked([]);
    setShape(null);
  };
  const toggle = (name: string | null) => {
    if (!name || gone.includes(name)) return;
    setPicked(picked.includes(name) ? picked.filter((x) => x !== name) : [...picked, name]);
  };
  return (
    <Sheet className="overflow-hidden">
      <SheetTitle
        beside={
          <span className="flex items-center gap-3">
            {build.data && (
              <Link to={`/library/files/${build.data.file_id}?revision=${build.data.revision}`} className="text-faded">
                {b.file}, revision {build.data.revision}
              </Link>
            )}
            {can && !leaving && <Button needs="operate" at={m} onClick={() => setLeaving(true)}>Leave out…</Button>}
          </span>
        }
      >
        Layer by layer
      </SheetTitle>
      {build.data && <LeftOut build={build.data} layer={b.layer ?? 0} />}
      {leaving && build.data && (
        <LeaveOut machine={m} build={build.data} objects={objects} picked={picked} pick={setPicked} drawing={shape} draw={setShape} close={done} />
      )}
      {build.data && fed && reading.data ? (
        <Viewer
          sha256={fed}
          model={m.model}
          layers={reading.data.layers}
          bed={[wide, deep]}
          objects={leaving ? objects : ((reading.data.objects ?? []) as BedObject[])}
          choose={leaving ? toggle : undefined}
          picked={leaving ? picked : undefined}
          shape={leaving ? shape : null}
          onShape={(points) => {
            const taken = objects.filter((o) => !gone.includes(o.name) && within(shape ?? "rectangle", points, o)).map((o) => o.name);
            setPicked([...new Set([...picked, ...taken])]);
            setShape(null);
          }}
          key={back ? "back" : "now"}
          following={
            back
              ? { layer: Math.max(1, back.layer ?? 1), acknowledged: back.command ?? 0 }
              : b.outcome
                ? undefined
                : { layer: Math.max(1, b.layer ?? 1), acknowledged: b.acknowledged ?? 0 }
          }
          layer={back ? Math.max(1, back.layer ?? 1) : b.outcome ? undefined : Math.max(1, b.layer ?? 1)}
          height="h-[24rem]"
        />
      ) : (
        <Loading rows={5} />
      )}
    </Sheet>
  );
}
