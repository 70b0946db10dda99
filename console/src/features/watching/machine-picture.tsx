import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";

import type { KeptFrame, MachineDetail } from "../../api/client";
import { clock } from "../../ui/format";
import { Empty, Failed, Sheet } from "../../ui/page";
import { Zoom } from "../../ui/zoom";
import { CameraChoice } from "./camera-choice";
import { LivePicture } from "./live-picture";
import { FramePicture, LookBack } from "./look-back";
import { useBuildFrames, useCameras } from "./queries";

/**
 * What a machine's cameras see: one of them, picked by name, now or at any frame of its build that is kept. `back` is the frame that
 * is looked back at, null for now.
 */
export function MachinePicture({
  machine: m,
  back,
  lookBack,
}: {
  machine: MachineDetail;
  back: KeptFrame | null;
  lookBack: (frame: KeptFrame | null) => void;
}) {
  const cameras = useCameras();
  const mine = (cameras.data ?? []).filter((c) => c.machine === m.name).sort((a, b) => Number(b.first) - Number(a.first));
  const [search, setSearch] = useSearchParams();
  const [at, setAt] = useState("");
  const camera = mine.find((c) => c.name === search.get("camera")) ?? mine[0];
  const frames = useBuildFrames(m.build?.id, camera?.name ?? "", true);
  const list = frames.data ?? [];
  useEffect(() => {
    if (back && (back.build !== m.build?.id || back.camera !== camera?.name)) lookBack(null);
  }, [back, m.build?.id, camera?.name, lookBack]);
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
            {back ? (
              <FramePicture frame={back} frames={list} />
            ) : (
              <LivePicture camera={camera} rate={camera.settings?.frames_per_s ?? 5} onFrame={(f) => setAt(f.at)} />
            )}
          </Zoom>
          <div className="flex min-h-11 flex-wrap items-center justify-between gap-x-4 gap-y-1 px-4 py-1.5 text-sm">
            <CameraChoice cameras={mine.map((c) => c.name)} chosen={camera.name} choose={(name) => setSearch({ camera: name }, { replace: true })} />
            {back ? (
              <span className="rounded-full bg-sunk px-2 text-xs font-semibold">looking back</span>
            ) : (
              !camera.trouble &&
              at && (
                <span className="flex items-baseline gap-2 text-faded">
                  <span className="rounded-full bg-brass-wash px-2 text-xs font-semibold text-brass">live</span>
                  {clock(at)}
                </span>
              )
            )}
          </div>
          {m.build && !frames.isPending && <LookBack frames={list} shown={back} show={lookBack} live />}
        </>
      )}
    </Sheet>
  );
}
