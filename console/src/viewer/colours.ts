import { EXTRUDE, type LayerMoves } from "./layer-data";

export type Paint = "feature" | "speed" | "flow" | "tool";
export const PAINTS: { paint: Paint; name: string; unit: string }[] = [
  { paint: "feature", name: "Feature", unit: "" },
  { paint: "speed", name: "Speed", unit: "mm/s" },
  { paint: "flow", name: "Flow", unit: "mm³/s" },
  { paint: "tool", name: "Tool", unit: "" },
];

/** Twelve steps from slow to quick, even in lightness and readable for colour-blind eyes, on paper and on slate. */
const RAMP_LIGHT = ["#b9d3c6", "#a2c6b8", "#8ab9ab", "#73ab9f", "#5d9d94", "#488f8a", "#35817f", "#257274", "#1a6368", "#15545b", "#13454d", "#11363e"];
const RAMP_DARK = ["#2b4a48", "#2f5a55", "#336a62", "#387b6f", "#418c7c", "#4f9d88", "#62ad94", "#79bca1", "#92cbaf", "#aed8c0", "#cae5d3", "#e6f2e8"];
/** Kinds of lines: hues that differ in lightness too. */
const KINDS_LIGHT = ["#23715f", "#5b8fb9", "#b0632a", "#8a5a9e", "#7b7a1c", "#a83c4b", "#4f5b66", "#1f8f9a"];
const KINDS_DARK = ["#63c0a7", "#6f9fce", "#e59d63", "#bd97d6", "#c3c25a", "#ef8d97", "#a9b4be", "#63cdd6"];

export interface Bucket {
  colour: string;
  label: string;
}
export interface Painting {
  buckets: Bucket[];
  unit: string;
  /** The bucket of a move. */
  of: (move: number) => number;
}

const steps = (least: number, most: number) => {
  if (most - least < 0.05 * Math.max(most, 1)) return [least];
  const rough = (most - least) / 6;
  const power = 10 ** Math.floor(Math.log10(rough));
  const step = [1, 2, 2.5, 5, 10].map((s) => s * power).find((s) => s >= rough) ?? rough;
  const out = [];
  for (let v = Math.floor(least / step) * step; v <= most; v += step) out.push(Number(v.toPrecision(6)));
  return out;
};

/** The same kind of line has the same colour on every layer; words that slicers use, else one by the name itself. */
const SHADES: [RegExp, number][] = [
  [/^$|skirt|brim|prime|purge|custom/i, 6],
  [/bridge|overhang/i, 5],
  [/support|raft/i, 3],
  [/solid|top|bottom|skin|surface|iron/i, 1],
  [/fill/i, 2],
  [/wall|perimeter|shell|outline|contour/i, 0],
];
const shadeOf = (name: string) =>
  SHADES.find(([words]) => words.test(name))?.[1] ?? 4 + (([...name].reduce((sum, c) => sum + c.charCodeAt(0), 0) % 2) * 3);

/** How a layer's extrusions are coloured, with what the legend says. */
export function painting(m: LayerMoves, paint: Paint, dark: boolean): Painting {
  const kinds = dark ? KINDS_DARK : KINDS_LIGHT;
  const named = (numbers: Uint8Array | Uint16Array, name: (n: number) => string, colour: (n: number) => number): Painting => {
    const present = [...new Set(numbers.filter((_, i) => m.kind[i] === EXTRUDE))].sort((a, b) => a - b);
    const at = new Map(present.map((n, i) => [n, i]));
    return {
      unit: "",
      buckets: present.map((n) => ({ colour: kinds[colour(n) % kinds.length]!, label: name(n) })),
      of: (i) => at.get(numbers[i]!) ?? 0,
    };
  };
  if (paint === "feature") return named(m.feature, (n) => m.features[n] || "not named", (n) => shadeOf(m.features[n] ?? ""));
  if (paint === "tool") return named(m.tool, (n) => `tool ${n}`, (n) => n);
  const values = paint === "speed" ? m.speed : m.flow;
  let least = Infinity;
  let most = 0;
  for (let i = 0; i < m.count; i++)
    if (m.kind[i] === EXTRUDE) {
      least = Math.min(least, values[i]!);
      most = Math.max(most, values[i]!);
    }
  const marks = steps(Number.isFinite(least) ? least : 0, most);
  const ramp = dark ? RAMP_DARK : RAMP_LIGHT;
  const colour = (i: number) => ramp[marks.length < 2 ? 6 : Math.round((i / (marks.length - 1)) * (ramp.length - 1))]!;
  return {
    unit: paint === "speed" ? "mm/s" : "mm³/s",
    buckets: marks.map((v, i) => ({ colour: colour(i), label: String(Number(v.toPrecision(3))) })),
    of: (i) => {
      let k = marks.length - 1;
      while (k > 0 && values[i]! < marks[k]! - 1e-6) k--;
      return k;
    },
  };
}
