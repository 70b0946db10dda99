import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";

import type { HeatCurve } from "../../api/client";
import { clock } from "../../ui/format";
import { useDark } from "../../ui/theme";

const HIGH_PX = 96;
/** What the axis at its right takes, when it shows both; else there is room for the last time of the axis above. */
const SECOND_AXIS_PX = 44;
const NO_AXIS_PX = 24;

/** The room at the right of both plots, so that one time stands under the other. */
export const rightOf = (curve: HeatCurve) => (curve.power_w && curve.fan_pct ? SECOND_AXIS_PX : NO_AXIS_PX);

const LINES = [
  { key: "power_w", name: "power", unit: "W", colour: "--ink" },
  { key: "fan_pct", name: "part fan", unit: "%", colour: "--building" },
] as const;

interface Props {
  curve: HeatCurve;
  /** Seconds since 1970. */
  begin: number;
  end: number;
  zoom: (begin: number, end: number) => void;
  whole: () => void;
}

/** What the machine draws and how its part fan runs, under the heat and in step with it. */
export function BelowPlot({ curve, begin, end, zoom, whole }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const dark = useDark();
  const [said, setSaid] = useState("");
  const latest = useRef({ zoom, whole });
  latest.current = { zoom, whole };
  const shown = LINES.filter((line) => curve[line.key]);
  const which = shown.map((line) => line.key).join();

  useEffect(() => {
    const on = box.current;
    if (!on) return;
    const css = getComputedStyle(document.documentElement);
    const colour = (name: string) => css.getPropertyValue(name).trim();
    const axis = { stroke: colour("--faded"), grid: { stroke: colour("--rule"), width: 1 }, ticks: { show: false }, font: "12px IBM Plex Sans" };
    const lines = LINES.filter((line) => which.split(",").includes(line.key));
    const chart = new uPlot(
      {
        width: on.clientWidth,
        height: HIGH_PX,
        padding: [null, lines.length > 1 ? null : NO_AXIS_PX, null, null],
        legend: { show: false },
        scales: { x: { time: true, min: begin, max: end }, W: { range: (_, __, most) => [0, Math.max(20, Math.ceil((most * 1.1) / 20) * 20)] }, "%": { range: [0, 105] } },
        series: [{}, ...lines.map((line) => ({ label: line.name, scale: line.unit, stroke: colour(line.colour), width: 1.4, points: { show: false } }))],
        axes: [
          { ...axis, show: false },
          ...lines.map((line, n) => ({
            ...axis,
            scale: line.unit,
            side: n === 0 ? (3 as const) : (1 as const),
            size: n === 0 ? 56 : SECOND_AXIS_PX,
            space: 26,
            grid: n === 0 ? axis.grid : { show: false },
            values: (_: uPlot, ticks: number[]) => ticks.map((t, i) => (i === ticks.length - 1 ? `${t} ${line.unit}` : `${t}`)),
          })),
        ],
        cursor: { y: false, drag: { x: true, y: false, setScale: false }, points: { size: 5 } },
        hooks: {
          setSelect: [
            (u) => {
              if (u.select.width < 8) return;
              latest.current.zoom(u.posToVal(u.select.left, "x"), u.posToVal(u.select.left + u.select.width, "x"));
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
          setCursor: [
            (u) => {
              const i = u.cursor.idx;
              const values = i == null || (u.cursor.left ?? -1) < 0 ? [] : lines.map((line, n) => [line, u.data[n + 1]![i]] as const);
              const words = values.flatMap(([line, v]) => (v == null ? [] : [`${line.name} ${v.toFixed(0)} ${line.unit}`]));
              setSaid(words.length ? [clock(new Date(curve.at[i!]! * 1000)), ...words].join(" · ") : "");
            },
          ],
        },
      },
      [curve.at, ...lines.map((line) => curve[line.key] ?? [])] as unknown as uPlot.AlignedData,
      on,
    );
    const reset = () => latest.current.whole();
    chart.over.addEventListener("dblclick", reset);
    const observer = new ResizeObserver(() => chart.setSize({ width: on.clientWidth, height: HIGH_PX }));
    observer.observe(on);
    return () => {
      observer.disconnect();
      chart.destroy();
    };
  }, [curve, begin, end, dark, which]);

  return (
    <div className="mt-1">
      <div ref={box} role="img" aria-label={`${shown.map((line) => line.name).join(" and ")} over time`} className="below-plot w-full" style={{ minHeight: HIGH_PX }} />
      <p className="m-0 flex min-h-5 flex-wrap items-baseline gap-x-4 px-3 text-sm text-faded">
        {said ||
          shown.map((line) => (
            <span key={line.key} className="flex items-center gap-1.5">
              <span aria-hidden className="inline-block h-0.5 w-4" style={{ background: `var(${line.colour})` }} />
              {line.name}, {line.unit}
            </span>
          ))}
      </p>
    </div>
  );
}
