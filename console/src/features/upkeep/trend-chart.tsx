import * as Plot from "@observablehq/plot";
import { useCallback } from "react";

import { useDrawn } from "../../ui/drawn";
import type { Trend } from "./queries";

const HEIGHT = 120;

/** What a check measured: the tolerance as a band, the limits in which values used to lie as broken lines. */
export default function TrendChart({ trend }: { trend: Trend }) {
  const draw = useCallback((width: number) => drawTrend(trend, width), [trend]);
  return <div ref={useDrawn(draw)} className="w-full overflow-hidden" style={{ minHeight: HEIGHT }} />;
}

function drawTrend(t: Trend, width: number) {
  const readings = t.readings.map((r) => ({ at: new Date(r.at), value: r.value, out: Math.abs(r.value - t.nominal) > t.tolerance }));
  const [low, high] = [t.nominal - t.tolerance, t.nominal + t.tolerance];
  const drawn = Plot.plot({
    width,
    height: HEIGHT,
    marginLeft: 46,
    marginRight: 10,
    marginTop: 8,
    marginBottom: 22,
    style: { background: "transparent", color: "var(--faded)", fontSize: "12px", fontFamily: "inherit" },
    x: { label: null, ticks: 3 },
    y: { label: null, ticks: [low, t.nominal, high], tickFormat: (v: number) => Number(v.toPrecision(5)).toString(), nice: true },
    marks: [
      Plot.rect([0], { y1: low, y2: high, fill: "var(--sunk)" }),
      Plot.ruleY([t.nominal], { stroke: "var(--rule)" }),
      t.limits ? Plot.ruleY([t.limits.low, t.limits.high], { stroke: "var(--faded)", strokeDasharray: "3 4" }) : null,
      Plot.lineY(readings, { x: "at", y: "value", stroke: "var(--ink)", strokeWidth: 1.5 }),
      Plot.dot(readings, { x: "at", y: "value", r: 3.5, fill: (r: (typeof readings)[number]) => (r.out ? "var(--alarm)" : "var(--ink)") }),
    ],
  });
  drawn.setAttribute("aria-label", `${t.name} at ${t.machine}: ${t.readings.map((r) => `${r.value} ${t.unit}`).join(", ")}`);
  return drawn;
}
