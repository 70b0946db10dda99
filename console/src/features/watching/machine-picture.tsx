import { useState } from "react";
import { Link, useSearchParams } from "react-router";

import type { MachineDetail } from "../../api/client";
import { clock } from "../../ui/format";
import { Empty, Failed, Sheet } from "../../ui/page";
import { Zoom } from "../../ui/zoom";
import { LivePicture } from "./live-picture";
import { useCameras } from "./queries";

/** What a machine's cameras see now: one of them, picked by name. */
export function MachinePicture({ machine: m }: { machine: MachineDetail }) {
  const cameras = useCameras();
  const mine = (cameras.data ?? []).filter((c) => c.machine === m.name).sort((a, b) => Number(b.first) - Number(a.first));
  const [search, setSearch] = useSearchParams();
  const picked = search.get("camera") ?? "";
  const [at, setAt] = useState("");
  const camera = mine.find((c) => c.name === picked) ?? mine[0];
  return (
    <Sheet className="overflow-hidden">
      {cameras.error ? (
        <Failed error={cameras.error} again={() => cameras.refetch()} />
      ) : cameras.isPending ? (
        <div className="aspect-[4/3] bg-sunk" />
      ) : !camera ? (
        <Empty title={`No camera looks at ${m.name}`}>
          <Link to="/setup#cameras">Add one in the set-up</Link>, or with <code>chronarch cameras add</code>.
        </Empty>
      ) : (
        <>
          <Zoom label={`Picture of ${m.name}`} className="aspect-[4/3] w-full">
            <LivePicture camera={camera} rate={camera.settings?.frames_per_s ?? 5} onFrame={(f) => setAt(f.at)} />
          </Zoom>
          <div className="flex min-h-11 flex-wrap items-center justify-between gap-x-4 gap-y-1 px-4 py-1.5 text-sm">
            <div role="group" aria-label="Camera" className="flex flex-wrap items-center gap-1">
              {mine.length > 1 ? (
                mine.map((c) => (
                  <button
                    key={c.name}
                    type="button"
                    aria-pressed={c.name === camera.name}
                    onClick={() => setSearch({ camera: c.name }, { replace: true })}
                    className="min-h-8 rounded-md px-2.5 text-faded hover:text-ink aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink"
                  >
                    {c.name}
                  </button>
                ))
              ) : (
                <span className="text-faded">{camera.name}</span>
              )}
            </div>
            <span className="flex items-baseline gap-2 text-faded">
              {!camera.trouble && at && (
                <>
                  <span className="rounded-full bg-brass-wash px-2 text-xs font-semibold text-brass">live</span>
                  {clock(at)}
                </>
              )}
            </span>
          </div>
        </>
      )}
    </Sheet>
  );
}
