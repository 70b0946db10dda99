import "uplot/dist/uPlot.min.css";

import { useEffect, useRef, useState } from "react";
import uPlot from "uplot";

import type { HeatCurve, HeaterCurve } from "../../api/client";
import { clock, day } from "../../ui/format";
import { useDark } from "../../ui/theme";

const FURTHER_COLOURS = ["--building", "--warming", "--service", "--down"];

/** How a machine with several hot ends names them. */
export const HOT_END = /^T\d$/;

/** The heaters and further sensors of a curve, each with its colour. A hot end that was in use all the time is the nozzle. */
function heatersOf(curve: HeatCurve) {
  const nozzle = curve.nozzle?.measured ?? [];
  const isNozzle = (values: HeaterCurve) => nozzle.every((c, i) => c == null || Math.abs((values.measured?.[i] ?? c) - c) < 0.2);
  const further = Object.entries(curve.further ?? {}).filter(([name, values]) => !HOT_END.test(name) || !curve.nozzle || !isNozzle(values));
  return [
    { name: "nozzle", colour: "--uncleared", values: curve.nozzle },
    { name: "bed", colour: "--cooling", values: curve.bed },
    { name: "chamber", colour: "--paused", values: curve.chamber },
    ...further.map(([name, values], n) => ({ name, colour: FURTHER_COLOURS[n % FURTHER_COLOURS.length]!, values })),
  ].flatMap((h) => (h.values ? [{ ...h, values: h.values }] : []));
}
const HIGH_PX = 210;

/** Something that happened, to be marked on the plot and read by pointing at it. */
export interface HeatMark {
  at: number;
  kind: "layer" | "pause" | "fault" | "adjusted";
  text: string;
}
const MARK_COLOUR: Record<HeatMark["kind"], string> = { layer: "--rule", pause: "--paused", fault: "--alarm", adjusted: "--warming" };

interface Props {
  curve: HeatCurve;
  /** Seconds since 1970. */
  begin: number;
  end: number;
  /** A time that is looked at. */
  at?: number;
  marks?: HeatMark[];
  /** Another build's curve over this one, moved so that both begin together. */
  other?: { curve: HeatCurve; shift: number; name: string };
  zoom: (begin: number, end: number) => void;
  whole: () => void;
  /** Room at its right, px: as much as the plot below it leaves. */
  room: number;
}

/** Measured (full) and asked (dashed) temperatures over time. Dragged over, it shows that span; a double click shows all again. */
export function HeatPlot({ curve, begin, end, at, marks = [], other, zoom, whole, room }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const plot = useRef<uPlot | null>(null);
  const dark = useDark();
  const [said, setSaid] = useState("");
  const latest = useRef({ at, marks, zoom, whole });
  latest.current = { at, marks, zoom, whole };
  const shown = heatersOf(curve);

  useEffect(() => {
    const on = box.current;
    if (!on) return;
    const css = getComputedStyle(document.documentElement);
    const colour = (name: string) => css.getPropertyValue(name).trim();
    const lines: uPlot.Series[] = [{}];
    const bands: uPlot.Band[] = [];
    const data: (number | null)[][] = [curve.at];
    for (const { values: c, ...h } of heatersOf(curve)) {
      const stroke = colour(h.colour);
      lines.push({ label: `${h.name}, most`, stroke: "transparent", points: { show: false } });
      lines.push({ label: `${h.name}, least`, stroke: "transparent", points: { show: false } });
      bands.push({ series: [lines.length - 2, lines.length - 1], fill: `color-mix(in srgb, ${stroke} 18%, transparent)` });
      lines.push({ label: h.name, stroke, width: 2, points: { show: false } });
      lines.push({ label: `${h.name}, asked`, stroke, width: 1, dash: [3, 5], points: { show: false } });
      data.push(c.most ?? [], c.least ?? [], c.measured ?? [], c.asked ?? []);
    }
    let joined: uPlot.AlignedData = data as unknown as uPlot.AlignedData;
    if (other?.curve.nozzle || other?.curve.bed) {
      const over: (number | null)[][] = [other.curve.at.map((t) => t + other.shift)];
      for (const { values: c, ...h } of heatersOf(other.curve)) {
        lines.push({ label: `${h.name}, ${other.name}`, stroke: colour(h.colour), width: 1.2, alpha: 0.5, points: { show: false } });
        over.push(c.measured ?? []);
      }
      joined = uPlot.join([joined, over as unknown as uPlot.AlignedData], [data.map(() => 1), over.map(() => 2)]);
      for (const line of lines.slice(1)) line.spanGaps = true;
    }
    const axis = { stroke: colour("--faded"), grid: { stroke: colour("--rule"), width: 1 }, ticks: { show: false }, font: "12px IBM Plex Sans" };
    const chart = new uPlot(
      {
        width: on.clientWidth,
        height: HIGH_PX,
        padding: [null, room, null, null],
        legend: { show: false },
        scales: { x: { time: true, min: begin, max: end }, y: { range: (_, __, most) => [0, Math.max(60, Math.ceil((most + 8) / 20) * 20)] } },
        series: lines,
        bands,
        axes: [
          { ...axis, size: 34, grid: { show: false }, values: (_, ticks) => ticks.map((t) => (end - begin > 172_800 ? day(new Date(t * 1000)) : clock(new Date(t * 1000)))), space: 70 },
          { ...axis, size: 56, values: (_, ticks) => ticks.map((t, i) => (i === ticks.length - 1 ? `${t} °C` : `${t}`)) },
        ],
        cursor: { y: false, drag: { x: true, y: false, setScale: false }, points: { size: 6 } },
        hooks: {
          setSelect: [
            (u) => {
              if (u.select.width < 8) return;
              latest.current.zoom(u.posToVal(u.select.left, "x"), u.posToVal(u.select.left + u.select.width, "x"));
              u.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
            },
          ],
          setCursor: [(u) => setSaid(reading(u, curve, latest.current.marks))],
          draw: [
            (u) => {
              for (const mark of latest.current.marks) {
                const x = u.valToPos(mark.at, "x", true);
                if (x < u.bbox.left || x > u.bbox.left + u.bbox.width) continue;
                u.ctx.fillStyle = colour(MARK_COLOUR[mark.kind]);
                const high = mark.kind === "layer" ? u.bbox.height : 10 * devicePixelRatio;
                u.ctx.globalAlpha = mark.kind === "layer" ? 0.55 : 1;
                u.ctx.fillRect(x - (mark.kind === "layer" ? 0.5 : 1.5) * devicePixelRatio, u.bbox.top, (mark.kind === "layer" ? 1 : 3) * devicePixelRatio, high);
                u.ctx.globalAlpha = 1;
              }
              const { at: time } = latest.current;
              if (time !== undefined) {
                u.ctx.fillStyle = colour("--brass");
                u.ctx.fillRect(u.valToPos(time, "x", true) - devicePixelRatio, u.bbox.top, 2 * devicePixelRatio, u.bbox.height);
              }
            },
          ],
        },
      },
      joined,
      on,
    );
    const reset = () => latest.current.whole();
    chart.over.addEventListener("dblclick", reset);
    const observer = new ResizeObserver(() => chart.setSize({ width: on.clientWidth, height: HIGH_PX }));
    observer.observe(on);
    plot.current = chart;
    return () => {
      observer.disconnect();
      chart.destroy();
      plot.current = null;
    };
  }, [curve, begin, end, other, dark, room]);

  useEffect(() => {
    plot.current?.redraw(false);
  }, [at, marks]);

  return (
    <div>
      <div
        ref={box}
        role="img"
        aria-label={`Temperatures of ${shown.map((h) => h.name).join(", ") || "no heater"} from ${clock(new Date(begin * 1000))} to ${clock(new Date(end * 1000))}`}
        data-marked={at === undefined ? undefined : new Date(at * 1000).toISOString()}
        data-points={curve.at.length}
        className="heat-plot w-full"
        style={{ minHeight: HIGH_PX }}
      />
      <p className="m-0 flex min-h-5 flex-wrap items-baseline gap-x-4 px-3 text-sm text-faded" aria-live="off">
        {said ||
          shown.map((h) => (
            <span key={h.name} className="flex items-center gap-1.5">
              <span aria-hidden className="inline-block h-0.5 w-4" style={{ background: `var(${h.colour})` }} />
              {h.name}
            </span>
          ))}
      </p>
    </div>
  );
}

/** What is under the pointer, in words. */
function reading(u: uPlot, curve: HeatCurve, marks: HeatMark[]): string {
  const left = u.cursor.left ?? -1;
  if (left < 0 || u.cursor.idx == null) return "";
  const at = u.posToVal(left, "x");
  const near = marks.filter((m) => Math.abs(u.valToPos(m.at, "x") - left) < 5).map((m) => m.text);
  let i = 0;
  while (i < curve.at.length - 1 && curve.at[i + 1]! <= at) i += 1;
  const heaters = heatersOf(curve).flatMap((h) => {
    const measured = h.values.measured?.[i];
    if (measured == null) return [];
    const asked = h.values.asked?.[i];
    return [`${h.name} ${measured.toFixed(1)}${asked ? ` of ${asked.toFixed(0)}` : ""} °C`];
  });
  return [clock(new Date(at * 1000)), ...heaters, ...new Set(near)].join(" · ");
}
