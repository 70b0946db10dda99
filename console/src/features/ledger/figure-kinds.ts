import { type FigurePart, type MeasureInfo, RUNNING } from "./figure-words";

export type Kind = "bars" | "trend" | "map" | "funnel" | "pareto" | "scatter";
export const KINDS: Record<Kind, string> = {
  bars: "Bars",
  trend: "Trend",
  map: "Map",
  funnel: "Within chance?",
  pareto: "Largest first",
  scatter: "Each build",
};

/** The charts that fit what is asked, the best first. */
export function kindsFor(by: FigurePart[], measure: MeasureInfo): Kind[] {
  const [first, second] = by;
  if (second) return ["map"];
  if (measure.name === "pace") return first ? ["bars", "scatter"] : ["scatter"];
  if (!first) return [];
  if (RUNNING.includes(first)) return ["trend", "bars"];
  if (first === "hour" || first === "weekday") return ["bars"];
  if (measure.name === "scrap_share" || measure.name === "good_share") return ["funnel", "bars"];
  if (measure.unit === "count" || measure.unit === "g" || measure.name === "stopped" || measure.name === "scrap_cost") return ["pareto", "bars"];
  return ["bars"];
}
