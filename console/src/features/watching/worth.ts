import type { Camera, Machine } from "../../api/client";

/** What is worth looking at, most of all first: what went wrong, what the watch suspects, what stands, first layers, what ends soon. */
export function worth(camera: Camera, m: Machine | undefined, suspected: boolean): number {
  if (!m) return 0;
  const b = m.build;
  const live = b && !b.outcome;
  const points: [boolean, number][] = [
    [m.hands?.suspect ?? false, 100],
    [suspected, 95],
    [m.state === "down", 90],
    [m.state === "paused", 80],
    [Boolean(live && m.state === "building" && (b.layer ?? 0) <= 2), 60],
    [Boolean(live && (b.remaining_s ?? Infinity) < 600), 50],
    [m.state === "uncleared", 30],
    [m.state === "building", 20],
    [m.state === "warming", 15],
    [m.state === "cooling", 10],
  ];
  return Math.max(0, ...points.map(([so, n]) => (so ? n : 0))) + (camera.first ? 0.5 : 0);
}
