import { type PointerEvent, type WheelEvent, useCallback, useEffect, useRef, useState } from "react";

import { type Painting } from "./colours";
import { EXTRUDE, type LayerMoves, TRAVEL } from "./layer-data";

export interface BedObject {
  name: string;
  outline: number[][];
}

interface Props {
  bed: [number, number];
  moves: LayerMoves | undefined;
  painting: Painting | null;
  /** Moves up to this one are drawn; the rest faintly. */
  upTo: number;
  travel: boolean;
  objects: BedObject[];
  chosen: string | null;
  choose?: (name: string | null) => void;
  /** Lines that changed, to be stressed. */
  stress?: (line: number) => boolean;
  /** Objects that are picked, to be left out. */
  picked?: string[];
  /** Instead of moving the drawing, a drag draws this; `onShape` gets its two points in mm. */
  shape?: "rectangle" | "circle" | null;
  onShape?: (points: [number[], number[]]) => void;
  /** Where the head is taken away from and to once the layer is laid, mm. */
  away?: [number[], number[]];
  label: string;
}

interface Look {
  scale: number;
  x: number;
  y: number;
}

const css = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** One layer on its bed from above, the machine's front at the bottom. Drag moves it, the wheel and two fingers zoom. */
export function LayerCanvas(p: Props) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const [size, setSize] = useState<[number, number]>([0, 0]);
  const [look, setLook] = useState<Look | null>(null);
  const touches = useRef(new Map<number, [number, number]>());
  const moved = useRef(0);
  const [drag, setDrag] = useState<[number[], number[]] | null>(null);

  const fit = useCallback((): Look => {
    const [w, h] = size;
    const scale = Math.max(0.1, Math.min((w - 40) / p.bed[0], (h - 40) / p.bed[1]));
    return { scale, x: (w - p.bed[0] * scale) / 2, y: (h + p.bed[1] * scale) / 2 };
  }, [size, p.bed]);
  const now = look ?? fit();
  /** What is laid, or the chosen object, as large as it goes. */
  const close = (): Look => {
    const rings = p.objects.filter((o) => p.chosen === null || o.name === p.chosen).flatMap((o) => o.outline);
    const [xs, ys] = [rings.map((q) => q[0]!), rings.map((q) => q[1]!)];
    const [left, right, front, back] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
    const scale = Math.min(200, (size[0] - 60) / (right - left), (size[1] - 60) / (back - front));
    return { scale, x: size[0] / 2 - ((left + right) / 2) * scale, y: size[1] / 2 + ((front + back) / 2) * scale };
  };

  useEffect(() => {
    const there = canvas.current;
    if (!there) return;
    const watch = new ResizeObserver(() => setSize([there.clientWidth, there.clientHeight]));
    watch.observe(there);
    return () => watch.disconnect();
  }, []);

  useEffect(() => {
    const there = canvas.current;
    const g = there?.getContext("2d");
    if (!there || !g || size[0] === 0) return;
    const ratio = window.devicePixelRatio || 1;
    there.width = size[0] * ratio;
    there.height = size[1] * ratio;
    g.setTransform(ratio, 0, 0, ratio, 0, 0);
    draw(g, p, now, size);
    if (drag && p.shape) drawShape(g, p.shape, drag, now);
  });
  const onBed = ([x, y]: [number, number]) => [(x - now.x) / now.scale, (now.y - y) / now.scale];

  const zoom = (factor: number, x: number, y: number) => {
    const scale = Math.min(200, Math.max(fit().scale * 0.5, now.scale * factor));
    const f = scale / now.scale;
    setLook({ scale, x: x - (x - now.x) * f, y: y - (y - now.y) * f });
  };
  const at = (e: { clientX: number; clientY: number }): [number, number] => {
    const box = canvas.current!.getBoundingClientRect();
    return [e.clientX - box.left, e.clientY - box.top];
  };
  const wheel = (e: WheelEvent) => zoom(Math.exp(-e.deltaY * 0.0015), ...at(e));
  const down = (e: PointerEvent) => {
    e.currentTarget.setPointerCapture(e.pointerId);
    touches.current.set(e.pointerId, at(e));
    moved.current = 0;
    if (p.shape) setDrag([onBed(at(e)), onBed(at(e))]);
  };
  const move = (e: PointerEvent) => {
    const before = touches.current.get(e.pointerId);
    if (!before) return;
    const here = at(e);
    if (p.shape && drag) {
      setDrag([drag[0], onBed(here)]);
      return;
    }
    const others = [...touches.current.entries()].filter(([id]) => id !== e.pointerId);
    touches.current.set(e.pointerId, here);
    moved.current += Math.abs(here[0] - before[0]) + Math.abs(here[1] - before[1]);
    const other = others[0]?.[1];
    if (other) {
      const far = (q: [number, number]) => Math.hypot(q[0] - other[0], q[1] - other[1]);
      zoom(far(here) / Math.max(1, far(before)), (here[0] + other[0]) / 2, (here[1] + other[1]) / 2);
    } else setLook({ ...now, x: now.x + here[0] - before[0], y: now.y + here[1] - before[1] });
  };
  const up = (e: PointerEvent) => {
    touches.current.delete(e.pointerId);
    if (p.shape && drag) {
      p.onShape?.([drag[0], onBed(at(e))]);
      setDrag(null);
      return;
    }
    if (moved.current > 5 || !p.choose) return;
    const [x, y] = at(e);
    const [mx, my] = [(x - now.x) / now.scale, (now.y - y) / now.scale];
    const hit = p.objects.find((o) => inside(mx, my, o.outline));
    p.choose(hit && hit.name !== p.chosen ? hit.name : null);
  };

  return (
    <div className="relative h-full w-full">
      <canvas
        ref={canvas}
        role="img"
        aria-label={p.label}
        className={`h-full w-full touch-none ${p.shape ? "cursor-crosshair" : "cursor-grab active:cursor-grabbing"}`}
        onWheel={wheel}
        onPointerDown={down}
        onPointerMove={move}
        onPointerUp={up}
        onPointerCancel={(e) => touches.current.delete(e.pointerId)}
        onDoubleClick={() => setLook(null)}
      />
      <div className="absolute top-3 right-3 flex gap-1.5">
        {p.objects.length > 0 && (
          <button type="button" onClick={() => setLook(close())} className={nearLook}>
            Nearer
          </button>
        )}
        {look && (
          <button type="button" onClick={() => setLook(null)} className={nearLook}>
            Whole bed
          </button>
        )}
      </div>
    </div>
  );
}

const nearLook = "rounded-md border border-rule bg-sheet px-2.5 py-1 text-sm text-ink hover:bg-sunk";

function inside(x: number, y: number, ring: number[][]): boolean {
  let is = false;
  for (let i = 0, j = ring.length - 1; i < ring.length; j = i++) {
    const [xi, yi, xj, yj] = [ring[i]![0]!, ring[i]![1]!, ring[j]![0]!, ring[j]![1]!];
    if (yi > y !== yj > y && x < ((xj - xi) * (y - yi)) / (yj - yi) + xi) is = !is;
  }
  return is;
}

function draw(g: CanvasRenderingContext2D, p: Props, look: Look, size: [number, number]) {
  const { scale } = look;
  const X = (x: number) => look.x + x * scale;
  const Y = (y: number) => look.y - y * scale;
  g.clearRect(0, 0, size[0], size[1]);
  g.fillStyle = css("--sheet");
  g.fillRect(X(0), Y(p.bed[1]), p.bed[0] * scale, p.bed[1] * scale);
  g.lineWidth = 1;
  g.strokeStyle = css("--rule");
  g.beginPath();
  for (let v = 10; v < Math.max(...p.bed); v += 10) {
    if (scale < 2.4 && v % 50) continue;
    for (const [x0, y0, x1, y1, within] of [
      [v, 0, v, p.bed[1], v < p.bed[0]],
      [0, v, p.bed[0], v, v < p.bed[1]],
    ] as const) {
      if (!within) continue;
      g.moveTo(X(x0), Y(y0));
      g.lineTo(X(x1), Y(y1));
    }
  }
  g.globalAlpha = 0.55;
  g.stroke();
  g.globalAlpha = 1;
  g.strokeStyle = css("--faded");
  g.strokeRect(X(0), Y(p.bed[1]), p.bed[0] * scale, p.bed[1] * scale);
  // the origin and its axes
  g.strokeStyle = css("--ink");
  g.lineWidth = 1.5;
  g.beginPath();
  g.moveTo(X(0), Y(Math.min(12, p.bed[1])));
  g.lineTo(X(0), Y(0));
  g.lineTo(X(Math.min(12, p.bed[0])), Y(0));
  g.stroke();
  g.fillStyle = css("--faded");
  g.font = "12px 'IBM Plex Sans', sans-serif";
  g.fillText(`0, 0`, X(0) + 2, Y(0) + 14);
  g.textAlign = "right";
  g.fillText(`${p.bed[0]} × ${p.bed[1]} mm`, X(p.bed[0]), Y(0) + 14);
  g.textAlign = "left";
  const m = p.moves;
  if (m && p.painting) {
    const last = Math.min(p.upTo, m.count);
    const width = Math.max(1, Math.min(0.42 * scale, 12));
    if (last < m.count) {
      const rest = new Path2D();
      path(m, last, m.count, (i) => m.kind[i] === EXTRUDE, rest, X, Y);
      g.strokeStyle = css("--rule");
      g.lineWidth = width;
      g.stroke(rest);
    }
    const paths = p.painting.buckets.map(() => new Path2D());
    let [px, py] = m.start;
    const ends = new Float64Array(p.painting.buckets.length * 2).fill(NaN);
    for (let i = 0; i < last; i++) {
      const [x, y] = [m.x[i]!, m.y[i]!];
      if (m.kind[i] === EXTRUDE) {
        const b = p.painting.of(i);
        const way = paths[b]!;
        if (ends[2 * b] !== px || ends[2 * b + 1] !== py) way.moveTo(X(px), Y(py));
        way.lineTo(X(x), Y(y));
        ends[2 * b] = x;
        ends[2 * b + 1] = y;
      }
      px = x;
      py = y;
    }
    g.lineWidth = width;
    g.lineCap = "round";
    paths.forEach((way, i) => {
      g.strokeStyle = p.painting!.buckets[i]!.colour;
      g.stroke(way);
    });
    if (p.travel) {
      const way = new Path2D();
      path(m, 0, last, (i) => m.kind[i] === TRAVEL, way, X, Y);
      g.strokeStyle = css("--alarm");
      g.globalAlpha = 0.55;
      g.lineWidth = 1;
      g.setLineDash([3, 3]);
      g.stroke(way);
      g.setLineDash([]);
      g.globalAlpha = 1;
    }
    if (p.stress) {
      const way = new Path2D();
      path(m, 0, m.count, (i) => m.kind[i] === EXTRUDE && p.stress!(m.line[i]!), way, X, Y);
      g.strokeStyle = css("--alarm");
      g.lineWidth = Math.max(1.5, width);
      g.stroke(way);
    }
    if (last > 0 && last < m.count) {
      g.fillStyle = css("--brass");
      g.beginPath();
      g.arc(X(m.x[last - 1]!), Y(m.y[last - 1]!), 5, 0, 2 * Math.PI);
      g.fill();
    }
  }
  for (const o of p.objects) {
    if (o.outline.length < 3) continue;
    g.beginPath();
    o.outline.forEach(([x, y], i) => (i ? g.lineTo(X(x!), Y(y!)) : g.moveTo(X(x!), Y(y!))));
    g.closePath();
    const picked = p.picked?.includes(o.name) ?? false;
    const chosen = o.name === p.chosen || picked;
    if (picked) {
      g.fillStyle = css("--alarm-wash");
      g.fill();
    }
    g.strokeStyle = picked ? css("--alarm") : chosen ? css("--ink") : css("--faded");
    g.lineWidth = chosen ? 2.5 : 1;
    g.setLineDash(chosen ? [] : [2, 3]);
    g.stroke();
    g.setLineDash([]);
  }
  if (p.away) drawAway(g, p.away, X, Y);
}

/** The way of the head out of the picture. */
function drawAway(g: CanvasRenderingContext2D, [[x, y], [u, v]]: [number[], number[]], X: (x: number) => number, Y: (y: number) => number) {
  g.strokeStyle = g.fillStyle = css("--ink");
  g.lineWidth = 1.5;
  g.setLineDash([6, 4]);
  g.beginPath();
  g.moveTo(X(x!), Y(y!));
  g.lineTo(X(u!), Y(v!));
  g.stroke();
  g.setLineDash([]);
  g.beginPath();
  g.arc(X(x!), Y(y!), 3, 0, 2 * Math.PI);
  g.fill();
  g.strokeRect(X(u!) - 9, Y(v!) - 9, 18, 18);
  g.font = "13px 'IBM Plex Sans', sans-serif";
  g.fillText("head", X(u!) + 14, Y(v!) + 5);
}

/** What is being drawn round objects: a rectangle by its corners, a circle by its middle and rim. */
function drawShape(g: CanvasRenderingContext2D, shape: "rectangle" | "circle", [a, b]: [number[], number[]], look: Look) {
  const [x, y, u, v] = [look.x + a[0]! * look.scale, look.y - a[1]! * look.scale, look.x + b[0]! * look.scale, look.y - b[1]! * look.scale];
  g.beginPath();
  if (shape === "circle") g.arc(x, y, Math.hypot(u - x, v - y), 0, 2 * Math.PI);
  else g.rect(Math.min(x, u), Math.min(y, v), Math.abs(u - x), Math.abs(v - y));
  g.fillStyle = css("--alarm-wash");
  g.fill();
  g.strokeStyle = css("--alarm");
  g.lineWidth = 1.5;
  g.stroke();
}

function path(
  m: LayerMoves,
  from: number,
  to: number,
  wanted: (i: number) => boolean,
  way: Path2D,
  X: (x: number) => number,
  Y: (y: number) => number,
) {
  let px = from ? m.x[from - 1]! : m.start[0];
  let py = from ? m.y[from - 1]! : m.start[1];
  for (let i = from; i < to; i++) {
    const [x, y] = [m.x[i]!, m.y[i]!];
    if (wanted(i)) {
      way.moveTo(X(px), Y(py));
      way.lineTo(X(x), Y(y));
    }
    px = x;
    py = y;
  }
}
