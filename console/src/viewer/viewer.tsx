import * as Slider from "@radix-ui/react-slider";
import { Box, ChevronDown, ChevronUp, Layers, Pause, Play } from "lucide-react";
import { type KeyboardEvent, lazy, type ReactNode, Suspense, useEffect, useMemo, useState } from "react";

import { Button } from "../ui/button";
import { duration } from "../ui/format";
import { Failed, Loading } from "../ui/page";
import { useDark } from "../ui/theme";
import { type Paint, painting, PAINTS } from "./colours";
import { type BedObject, LayerCanvas } from "./layer-canvas";
import { useLayer, useLayerTable } from "./layer-data";

const LaidPart = lazy(() => import("./part-view").then((m) => ({ default: m.LaidPart })));

interface Props {
  sha256: string;
  model: string;
  layers: number;
  bed: [number, number];
  objects?: BedObject[];
  chosen?: string | null;
  choose?: (name: string | null) => void;
  /** Follow a build: the layer that is being laid, and how many commands are done. */
  following?: { layer: number; acknowledged: number };
  layer?: number;
  onLayer?: (layer: number) => void;
  stress?: (line: number) => boolean;
  picked?: string[];
  shape?: "rectangle" | "circle" | null;
  onShape?: (points: [number[], number[]]) => void;
  /** Where the head is taken out of the picture, by layer: from where (mm) and for how long (s); and where it goes. */
  away?: { poses: { layer: number; x: number; y: number; seconds: number }[]; to: number[] };
  whole?: boolean;
  beside?: ReactNode;
  height?: string;
}

/**
 * A file layer by layer. Keys, while the drawing has the focus: up and down change the layer (with shift by ten), left
 * and right the move, Home and End go to the first and last layer, space plays, T shows travel, P changes the colours.
 */
export function Viewer(p: Props) {
  const [own, setOwn] = useState(1);
  const [free, setFree] = useState(false);
  const follows = p.following !== undefined && !free;
  const layer = Math.min(Math.max(1, follows ? p.following!.layer : (p.layer ?? own)), Math.max(1, p.layers));
  const go = (to: number) => {
    const next = Math.min(Math.max(1, to), p.layers);
    setFree(true);
    setOwn(next);
    p.onLayer?.(next);
  };
  const dark = useDark();
  const table = useLayerTable(p.sha256, p.model);
  const found = useLayer(p.sha256, layer, p.layers, p.model);
  const [paint, setPaint] = useState<Paint>("feature");
  const [travel, setTravel] = useState(false);
  const [whole, setWhole] = useState(false);
  const of = `${p.sha256}:${layer}`;
  const [place, setPlace] = useState<{ of: string; share: number | null }>({ of, share: null });
  const [playing, setPlaying] = useState(false);
  const m = found.data;
  const drawn = useMemo(() => (m ? painting(m, paint, dark) : null), [m, paint, dark]);
  const count = m?.count ?? 0;
  const fresh = m?.layer === layer;
  /** How many moves are drawn, null for all; below zero: so many before the last, whose number need not be known yet. */
  const share = place.of === of ? place.share : playing ? 0 : null;
  const setShare = (to: number | null) => setPlace({ of, share: to });
  let upTo = share === null ? count : Math.min(Math.max(0, share < 0 ? count + share : share), count);
  if (follows && m && fresh) {
    upTo = 0;
    while (upTo < count && m.command[upTo]! <= p.following!.acknowledged) upTo++;
  }

  useEffect(() => {
    if (!playing || !m || !fresh) return;
    // a layer takes about five seconds to watch, whatever its real time
    const step = Math.max(1, Math.round(count / 150));
    const timer = setTimeout(() => {
      const next = upTo + step;
      if (next < count) setShare(next);
      else if (layer < p.layers) {
        setOwn(layer + 1);
        p.onLayer?.(layer + 1);
      } else setPlaying(false);
    }, 33);
    return () => clearTimeout(timer);
  });
  const play = () => {
    setFree(true);
    setOwn(layer);
    if (!playing) setShare(share === null || upTo >= count ? 0 : upTo);
    setPlaying(!playing);
  };
  const keys: Record<string, () => void> = {
    ArrowUp: () => go(layer + 1),
    ArrowDown: () => go(layer - 1),
    PageUp: () => go(layer + 10),
    PageDown: () => go(layer - 10),
    Home: () => go(1),
    End: () => go(p.layers),
    ArrowRight: () => setShare(share === null || share === -1 ? null : share < 0 ? share + 1 : Math.min(count, share + 1)),
    ArrowLeft: () => setShare(share === null ? -1 : share > 0 ? share - 1 : share === 0 ? 0 : fresh ? Math.max(share - 1, -count) : share - 1),
    " ": play,
    t: () => setTravel(!travel),
    p: () => setPaint(PAINTS[(PAINTS.findIndex((x) => x.paint === paint) + 1) % PAINTS.length]!.paint),
  };
  const key = (e: KeyboardEvent) => {
    if (e.target instanceof HTMLInputElement || e.target instanceof HTMLSelectElement || e.ctrlKey || e.metaKey) return;
    const deed = keys[e.shiftKey && e.key.startsWith("Arrow") ? (e.key === "ArrowUp" ? "PageUp" : "PageDown") : e.key.length === 1 ? e.key.toLowerCase() : e.key];
    if (!deed || whole || (e.key === " " && e.target instanceof HTMLButtonElement)) return;
    e.preventDefault();
    setPlaying(e.key === " " ? playing : false);
    deed();
  };
  const row = table.data?.[layer - 1];
  const pose = p.away?.poses.find((x) => x.layer === layer);
  const move = share !== null && m && upTo > 0 ? upTo - 1 : null;
  return (
    <div className="flex flex-col" onKeyDown={key} data-testid="viewer">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2 border-b border-rule px-4 py-2.5">
        {p.whole !== false && (
          <div className="flex rounded-md border border-rule" role="group" aria-label="View">
            <Choice on={!whole} set={() => setWhole(false)}>
              <Layers size={15} aria-hidden /> Layers
            </Choice>
            <Choice on={whole} set={() => setWhole(true)}>
              <Box size={15} aria-hidden /> Whole
            </Choice>
          </div>
        )}
        {!whole && (
          <>
            <label className="flex items-center gap-2 text-sm text-faded">
              Colour
              <select
                className="rounded-md border border-rule bg-ground px-2 py-1 text-ink"
                value={paint}
                onChange={(e) => setPaint(e.target.value as Paint)}
              >
                {PAINTS.map((x) => (
                  <option key={x.paint} value={x.paint}>
                    {x.name}
                  </option>
                ))}
              </select>
            </label>
            <label className="flex items-center gap-2 text-sm">
              <input type="checkbox" checked={travel} onChange={(e) => setTravel(e.target.checked)} /> Travel
            </label>
          </>
        )}
        {p.following && free && (
          <Button onClick={() => setFree(false)}>Follow the build</Button>
        )}
        <div className="ml-auto">{p.beside}</div>
      </div>
      <div className={`relative flex ${p.height ?? "h-[52vh] min-h-80"}`}>
        <div tabIndex={0} className="min-w-0 flex-1 bg-sunk/40 focus-visible:-outline-offset-2" aria-label="Layer drawing; arrow keys move through it">
          {whole ? (
            <Suspense fallback={<Loading rows={4} />}>
              <LaidPart sha256={p.sha256} model={p.model} upTo={p.layers} bed={p.bed} objects={p.objects ?? []} />
            </Suspense>
          ) : found.error ? (
            <Failed error={found.error} again={() => void found.refetch()} />
          ) : p.layers === 0 ? (
            <p className="p-10 text-center text-faded">The file lays nothing, so there is nothing to see.</p>
          ) : (
            <LayerCanvas
              bed={p.bed}
              moves={m}
              painting={drawn}
              upTo={upTo}
              travel={travel}
              objects={p.objects ?? []}
              chosen={p.chosen ?? null}
              choose={p.choose}
              stress={p.stress}
              picked={p.picked}
              shape={p.shape}
              onShape={p.onShape}
              away={pose && p.away && [[pose.x, pose.y], p.away.to]}
              label={`Layer ${layer} of ${p.layers} from above`}
            />
          )}
        </div>
        {!whole && p.layers > 0 && (
          <div className="flex w-12 shrink-0 flex-col items-center gap-2 border-l border-rule py-2">
            <button type="button" className="rounded p-1 hover:bg-sunk" aria-label="Next layer up" onClick={() => go(layer + 1)}>
              <ChevronUp size={18} />
            </button>
            <Slider.Root
              orientation="vertical"
              min={1}
              max={Math.max(2, p.layers)}
              value={[layer]}
              onValueChange={([to]) => go(to!)}
              className="relative flex w-5 flex-1 touch-none flex-col items-center select-none"
            >
              <Slider.Track className="relative w-1 flex-1 rounded bg-rule">
                <Slider.Range className="absolute w-full rounded bg-faded" />
              </Slider.Track>
              <Slider.Thumb aria-label="Layer" className="block h-4 w-4 rounded-full border-2 border-sheet bg-ink" />
            </Slider.Root>
            <button type="button" className="rounded p-1 hover:bg-sunk" aria-label="Next layer down" onClick={() => go(layer - 1)}>
              <ChevronDown size={18} />
            </button>
          </div>
        )}
      </div>
      {!whole && p.layers > 0 && (
        <div className="border-t border-rule px-4 py-2.5">
          <div className="flex items-center gap-3">
            <button
              type="button"
              className="rounded-md border border-rule p-1.5 hover:bg-sunk"
              aria-label={playing ? "Stop playing" : "Play"}
              onClick={play}
            >
              {playing ? <Pause size={16} /> : <Play size={16} />}
            </button>
            <Slider.Root
              min={0}
              max={Math.max(1, count)}
              value={[upTo]}
              onValueChange={([to]) => {
                setFree(true);
                setOwn(layer);
                setPlaying(false);
                setShare(to!);
              }}
              className="relative flex h-5 flex-1 touch-none items-center select-none"
            >
              <Slider.Track className="relative h-1 flex-1 rounded bg-rule">
                <Slider.Range className="absolute h-full rounded bg-faded" />
              </Slider.Track>
              <Slider.Thumb aria-label="Move within the layer" className="block h-4 w-4 rounded-full border-2 border-sheet bg-ink" />
            </Slider.Root>
          </div>
          <p className="mt-1.5 flex flex-wrap gap-x-5 gap-y-1 text-sm text-faded" aria-live="polite">
            <span className="text-ink">
              Layer <strong>{layer}</strong> of {p.layers}
            </span>
            {row && (
              <>
                <span>z {row.z_mm.toFixed(2)} mm</span>
                <span>{row.height_mm.toFixed(2)} mm high</span>
                <span>{duration(row.seconds)}</span>
                <span>{(row.filament_mm / 1000).toFixed(2)} m of filament</span>
              </>
            )}
            {p.away && (
              <span className="text-ink">{pose ? `then the head goes aside for ${pose.seconds.toFixed(1)} s` : "the head stays: too short a layer, or the last"}</span>
            )}
            {move !== null && m && (
              <span>
                line {m.line[move]}: {m.speed[move]!.toFixed(0)} mm/s
                {m.kind[move] === 1 ? `, ${m.flow[move]!.toFixed(1)} mm³/s` : ""}
              </span>
            )}
          </p>
          {drawn && (
            <ul className="m-0 mt-2 flex list-none flex-wrap items-center gap-x-4 gap-y-1 p-0 text-sm" aria-label="Legend">
              {drawn.buckets.map((b) => (
                <li key={b.label} className="flex items-center gap-1.5">
                  <span aria-hidden className="inline-block h-2.5 w-5 rounded-sm" style={{ background: b.colour }} />
                  {b.label}
                </li>
              ))}
              {drawn.unit && <li className="text-faded">{drawn.unit}</li>}
              {travel && (
                <li className="flex items-center gap-1.5">
                  <span aria-hidden className="inline-block w-5 border-t border-dashed border-alarm" /> travel
                </li>
              )}
            </ul>
          )}
        </div>
      )}
    </div>
  );
}

function Choice({ on, set, children }: { on: boolean; set: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      aria-pressed={on}
      onClick={set}
      className={`flex items-center gap-1.5 px-2.5 py-1 text-sm first:rounded-l-md last:rounded-r-md ${on ? "bg-ink text-ground" : "text-ink hover:bg-sunk"}`}
    >
      {children}
    </button>
  );
}
