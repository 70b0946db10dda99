import * as Plot from "@observablehq/plot";

import { type FigurePart, type FigureRow, type FiguresReport, label, linkTo, type MeasureInfo, RUNNING, written } from "./figure-words";
import type { Kind } from "./figure-kinds";

export interface BuildDot {
  id: number;
  machine: string;
  planned_h: number;
  took_h: number;
  good: boolean;
}

const INK = "var(--ink)";
const FADED = "var(--faded)";
const MAIN = "var(--building)";
const ODD = "var(--alarm)";
const MOST_BARS = 40;
const CALENDAR: FigurePart[] = ["hour", "weekday", ...RUNNING];

interface Row {
  row: FigureRow;
  name: string;
  other: string;
  value: number;
  low: number;
  high: number;
  of: number;
  before: number | null;
  link?: string;
  title: string;
}

export function rowsOf(report: FiguresReport, measure: MeasureInfo): Row[] {
  return report.rows.flatMap((row) => {
    const figure = row.figures[measure.name];
    if (!figure) return [];
    const names = report.by.map((part, n) => label(part, row.key[n] ?? ""));
    const counts = Object.values(figure.counted ?? {});
    const range = figure.low != null && figure.high != null ? ` (${written(measure.unit, figure.low)} to ${written(measure.unit, figure.high)})` : "";
    return [
      {
        row,
        name: names[0] ?? "",
        other: names[1] ?? "",
        value: figure.value,
        low: figure.low ?? figure.value,
        high: figure.high ?? figure.value,
        of: counts[counts.length - 1] ?? 0,
        before: row.against?.[measure.name]?.value ?? null,
        link: linkTo(row),
        title: `${names.join(", ")}: ${written(measure.unit, figure.value)}${range}`,
      },
    ];
  });
}

interface Drawing {
  rows: Row[];
  report: FiguresReport;
  measure: MeasureInfo;
  width: number;
  builds: BuildDot[];
}
type Drawn = SVGSVGElement | HTMLElement;

const look = { background: "transparent", color: INK, fontFamily: "IBM Plex Sans, sans-serif", fontSize: "13px", overflow: "visible" } as const;
/** About so many ticks, and none between whole counts. */
const ticks = (measure: MeasureInfo, about: number, most: number) => (measure.unit === "count" ? Math.max(1, Math.min(about, Math.floor(most))) : about);
const axis = (measure: MeasureInfo) => (value: number) => (measure.unit === "share" ? `${Math.round(value * 100)} %` : written(measure.unit, value));
const link = { href: (d: Row) => d.link, title: (d: Row) => d.title };
const room = (rows: { name: string }[], width: number) => Math.min(width * 0.4, 18 + 7.2 * Math.max(4, ...rows.map((r) => r.name.length)));

function bars({ rows, measure, width, report }: Drawing): Drawn {
  const calendar = report.by[0] !== undefined && CALENDAR.includes(report.by[0]);
  const shown = (calendar ? rows : [...rows].sort((a, b) => b.value - a.value)).slice(0, calendar ? undefined : MOST_BARS);
  const ranged = shown.some((r) => r.low !== r.high);
  return Plot.plot({
    width,
    height: 46 + shown.length * 30,
    marginLeft: room(shown, width),
    marginRight: 84,
    marginTop: 6,
    style: look,
    x: { label: null, ticks: ticks(measure, Math.max(2, Math.floor(width / 140)), Math.max(0, ...shown.map((r) => r.value))), tickFormat: axis(measure), zero: true, grid: true },
    y: { label: null, domain: shown.map((r) => r.name), tickSize: 0 },
    marks: [
      Plot.barX(shown, { x: "value", y: "name", fill: MAIN, insetTop: 5, insetBottom: 5, ...link }),
      shown.some((r) => r.before !== null) ? Plot.tickX(shown, { x: "before", y: "name", stroke: INK, strokeWidth: 2, insetTop: 2, insetBottom: 2 }) : null,
      ranged ? Plot.ruleY(shown, { x1: "low", x2: "high", y: "name", stroke: INK, strokeWidth: 1.25 }) : null,
      Plot.text(shown, { x: (d: Row) => Math.max(d.high, d.value, d.before ?? 0), y: "name", text: (d: Row) => written(measure.unit, d.value), textAnchor: "start", dx: 7, fill: INK }),
    ],
  });
}

function trend({ rows, measure, width, report }: Drawing): Drawn {
  const total = report.total.figures[measure.name]?.value;
  const before = report.total.against?.[measure.name]?.value;
  const every = Math.max(1, Math.ceil(rows.length / (width / 90)));
  return Plot.plot({
    width,
    height: 280,
    marginLeft: 62,
    marginBottom: 34,
    marginTop: 16,
    marginRight: 20,
    style: look,
    x: { label: null, domain: rows.map((r) => r.name), type: "point", ticks: rows.filter((_, n) => n % every === 0).map((r) => r.name), padding: 0.4 },
    y: { label: null, zero: true, grid: true, ticks: ticks(measure, 5, Math.max(0, ...rows.map((r) => r.value))), tickFormat: axis(measure) },
    marks: [
      Plot.areaY(rows, { x: "name", y1: "low", y2: "high", fill: MAIN, fillOpacity: 0.16 }),
      total != null && measure.unit !== "count" ? Plot.ruleY([total], { stroke: FADED, strokeDasharray: "2 3" }) : null,
      before != null && measure.unit !== "count" ? Plot.ruleY([before], { stroke: FADED, strokeDasharray: "8 4" }) : null,
      Plot.lineY(rows, { x: "name", y: "value", stroke: MAIN, strokeWidth: 2 }),
      Plot.dot(rows, { x: "name", y: "value", r: 4, fill: MAIN, ...link }),
    ],
  });
}

function map({ rows, measure, width }: Drawing): Drawn {
  const order = (n: 0 | 1) => {
    const names = new Map(rows.map((r) => [r.row.key[n] ?? "", n ? r.other : r.name]));
    return [...names].sort(([a], [b]) => (a < b ? -1 : 1)).map(([, name]) => name);
  };
  const [first, second] = [order(0), order(1)];
  const across = second.length >= first.length ? "other" : "name";
  const down = across === "other" ? "name" : "other";
  const [columns, lines] = across === "other" ? [second, first] : [first, second];
  const cell = (width - 90) / Math.max(1, columns.length);
  const every = Math.max(1, Math.ceil(52 / cell));
  const most = Math.max(1e-9, ...rows.map((r) => r.value));
  return Plot.plot({
    width,
    height: 60 + lines.length * Math.max(26, Math.min(40, cell)),
    marginLeft: Math.min(width * 0.35, 18 + 7.2 * Math.max(3, ...lines.map((l) => l.length))),
    marginBottom: 34,
    marginTop: 6,
    style: look,
    padding: 0.06,
    x: { label: null, domain: columns, ticks: columns.filter((_, n) => n % every === 0), tickSize: 0 },
    y: { label: null, domain: lines, tickSize: 0 },
    color: { type: "identity" },
    marks: [
      Plot.cell(rows, { x: across, y: down, fill: (d: Row) => mixed(d.value / most), rx: 2, ...link }),
      cell > 46 ? Plot.text(rows, { x: across, y: down, text: (d: Row) => written(measure.unit, d.value), fill: INK, fontSize: 12 }) : null,
    ],
  });
}

/** Colours of a theme cannot be mixed as numbers; the browser mixes them. */
const mixed = (share: number) => `color-mix(in oklab, ${MAIN} ${(share * 100).toFixed(1)}%, var(--sunk))`;

/** The share against how many were judged, within the limits of chance about the share of all: normal limits of a binomial. */
function funnel({ rows, measure, width, report }: Drawing): Drawn {
  const all = report.total.figures[measure.name]?.value ?? 0;
  const counts = rows.map((r) => r.of);
  const [fewest, most] = [Math.max(1, Math.min(...counts) * 0.75), Math.max(10, ...counts) * 1.08];
  const chance = (of: number) => Math.sqrt((all * (1 - all)) / Math.max(1, of));
  const limits = Array.from({ length: 120 }, (_, n) => {
    const of = fewest + (n * (most - fewest)) / 119;
    const within = (times: number) => [Math.max(0, all - times * chance(of)), Math.min(1, all + times * chance(of))] as const;
    const [[low2, high2], [low3, high3]] = [within(1.96), within(3.09)];
    return { of, low2, high2, low3, high3 };
  });
  const outside = (d: Row) => Math.abs(d.value - all) > 1.96 * chance(d.of);
  const worse = (d: Row) => outside(d) && (measure.name === "good_share" ? d.value < all : d.value > all);
  const top = Math.max(0.02, Math.min(1, Math.max(...rows.map((r) => r.value), all + 3.3 * chance(fewest)) * 1.08));
  const [left, right, height] = [62, 30, 340];
  const x = (of: number) => left + ((of - fewest) / (most - fewest)) * (width - left - right);
  const y = (share: number) => height - 44 - (share / top) * (height - 60);
  const named = placed([...rows].sort((p, q) => Number(outside(q)) - Number(outside(p))), (d) => [x(d.of), y(d.value)]);
  return Plot.plot({
    width,
    height,
    marginLeft: left,
    marginBottom: 44,
    marginTop: 16,
    marginRight: right,
    style: look,
    x: { label: "builds that were judged →", domain: [fewest, most], ticks: Math.max(2, Math.floor(width / 130)), labelAnchor: "right" },
    y: { label: null, domain: [0, top], grid: true, ticks: 5, tickFormat: axis(measure) },
    marks: [
      Plot.areaY(limits, { x: "of", y1: "low3", y2: "high3", fill: FADED, fillOpacity: 0.09, clip: true }),
      Plot.areaY(limits, { x: "of", y1: "low2", y2: "high2", fill: FADED, fillOpacity: 0.12, clip: true }),
      Plot.ruleY([all], { stroke: FADED, strokeDasharray: "2 3" }),
      Plot.dot(rows, { x: "of", y: "value", r: 5.5, fill: (d: Row) => (worse(d) ? ODD : MAIN), ...link }),
      ...named.map(({ row, dx, dy, anchor }) =>
        Plot.text([row], { x: "of", y: "value", text: "name", dx, dy, textAnchor: anchor, fill: worse(row) ? ODD : INK, fontWeight: outside(row) ? 600 : 400 }),
      ),
    ],
  });
}

const SIDES = [
  { dx: 0, dy: -14, anchor: "middle" },
  { dx: 11, dy: 0, anchor: "start" },
  { dx: -11, dy: 0, anchor: "end" },
  { dx: 0, dy: 15, anchor: "middle" },
] as const;

/** Names beside dots where there is room; a name without room is left to the table and to what a dot says under the pointer. */
function placed(rows: Row[], at: (row: Row) => [number, number]) {
  const taken = rows.map((row) => box(at(row), 0, 0, "middle", 12));
  return rows.flatMap((row, n) => {
    const long = row.name.length * 7.4;
    const side = SIDES.find((one) => !taken.some((other, m) => m !== n && meet(other, box(at(row), one.dx, one.dy, one.anchor, long))));
    if (!side) return [];
    taken.push(box(at(row), side.dx, side.dy, side.anchor, long));
    return [{ row, ...side }];
  });
}
type Box = readonly [number, number, number, number];
function box([x, y]: [number, number], dx: number, dy: number, anchor: "middle" | "start" | "end", long: number): Box {
  const left = x + dx - (anchor === "middle" ? long / 2 : anchor === "end" ? long : 0);
  return [left, y + dy - 8, left + long, y + dy + 8];
}
const meet = (a: Box, b: Box) => a[0] < b[2] && b[0] < a[2] && a[1] < b[3] && b[1] < a[3];

function pareto({ rows, measure, width }: Drawing): Drawn {
  const kept = rows.filter((r) => r.value > 0 && r.row.key[0] !== "").sort((a, b) => b.value - a.value);
  const all = kept.reduce((sum, r) => sum + r.value, 0) || 1;
  const short = (name: string) => (name.length > 30 ? `${name.slice(0, 28)}…` : name);
  const shown = kept.slice(0, 25).map((r, n, list) => ({ ...r, name: short(r.name), sofar: list.slice(0, n + 1).reduce((sum, one) => sum + one.value, 0) }));
  const long = Math.max(4, ...shown.map((r) => r.name.length));
  const turned = shown.length * long * 7.4 > width - 120;
  const below = turned ? 30 + long * 4.6 : 34;
  return Plot.plot({
    width,
    height: 290 + below,
    marginLeft: turned ? Math.max(58, long * 4.2) : 58,
    marginRight: 56,
    marginTop: 16,
    marginBottom: below,
    style: look,
    x: { label: null, domain: shown.map((r) => r.name), tickRotate: turned ? -35 : 0, tickSize: 0, padding: 0.25 },
    y: { label: null, domain: [0, all], grid: true },
    marks: [
      Plot.axisY({ anchor: "left", ticks: ticks(measure, 5, all), tickFormat: axis(measure), label: null }),
      Plot.axisY({ anchor: "right", ticks: [0, 0.25, 0.5, 0.75, 1].map((s) => s * all), tickFormat: (v: number) => `${Math.round((v / all) * 100)} %`, label: null, color: FADED }),
      Plot.barY(shown, { x: "name", y: "value", fill: MAIN, ...link }),
      Plot.lineY(shown, { x: "name", y: "sofar", stroke: INK, strokeWidth: 1.5 }),
      Plot.dot(shown, { x: "name", y: "sofar", r: 3, fill: INK }),
    ],
  });
}

/** On logarithmic axes, so that a build of ten minutes and one of a day are both seen. */
const HOURS = [1 / 60, 1 / 12, 1 / 6, 0.25, 1 / 3, 0.5, 0.75, 1, 1.5, 2, 3, 4, 6, 8, 12, 16, 24, 32, 48, 64, 96];

function scatter({ width, builds }: Drawing): Drawn {
  const hour = (h: number) => (h < 1 ? `${Math.round(h * 60)} min` : `${h} h`);
  const axis = (hours: number[]) => {
    const seen = hours.filter((h) => h > 0);
    const [least, most] = seen.length ? [Math.min(...seen) / 1.2, Math.max(...seen) * 1.2] : [0.25, 4];
    const ticks = HOURS.filter((h) => h >= least && h <= most);
    return { type: "log", domain: [least, most], ticks, grid: true, axis: null } as const;
  };
  const [x, y] = [axis(builds.map((b) => b.planned_h)), axis(builds.map((b) => b.took_h))];
  const [least, most] = [Math.max(x.domain[0], y.domain[0]), Math.min(x.domain[1], y.domain[1])];
  return Plot.plot({
    width,
    height: Math.min(420, Math.max(300, width * 0.7)),
    marginLeft: 66,
    marginBottom: 46,
    style: look,
    x,
    y,
    marks: [
      Plot.axisX(x.ticks, { text: hour, label: "planned →" }),
      Plot.axisY(y.ticks, { text: hour, label: "↑ took" }),
      Plot.line([{ v: least }, { v: most }], { x: "v", y: "v", stroke: FADED, strokeDasharray: "2 3" }),
      Plot.dot(builds, {
        x: "planned_h",
        y: "took_h",
        r: 3.5,
        fill: (d: BuildDot) => (d.good ? MAIN : ODD),
        fillOpacity: 0.65,
        href: (d: BuildDot) => `/builds/${d.id}`,
        title: (d: BuildDot) => `build ${d.id} on ${d.machine}: planned ${d.planned_h.toFixed(2)} h, took ${d.took_h.toFixed(2)} h`,
      }),
    ],
  });
}

export const DRAWN: Record<Kind, (drawing: Drawing) => Drawn> = { bars, trend, map, funnel, pareto, scatter };
