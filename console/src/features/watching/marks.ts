import { useMemo } from "react";

import { clock } from "../../ui/format";
import { useChanges } from "../control/queries";
import type { HeatMark } from "../machines/heat-plot";
import { useBuildFrames } from "./queries";

/** What happened in a build, to be marked on a plot over time: layers, pauses and faults as its frames have them, and what hands changed. */
export function useBuildMarks(build: number | undefined, camera: string, runs: boolean): HeatMark[] {
  const frames = useBuildFrames(build, camera, runs).data;
  const changes = useChanges(build).data;
  return useMemo(() => {
    const marks: HeatMark[] = [];
    let layer = 0;
    for (const f of frames ?? []) {
      const at = Date.parse(f.at) / 1000;
      if (f.why === "pause" || f.why === "fault") marks.push({ at, kind: f.why, text: `${f.why} at ${clock(f.at)}` });
      if ((f.layer ?? 0) > layer) {
        layer = f.layer ?? 0;
        marks.push({ at, kind: "layer", text: `layer ${layer}` });
      }
    }
    for (const c of changes ?? []) marks.push({ at: Date.parse(c.at) / 1000, kind: "adjusted", text: c.by ? `${c.text} (${c.by})` : c.text });
    return marks;
  }, [frames, changes]);
}
