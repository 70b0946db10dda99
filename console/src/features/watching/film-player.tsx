import * as Slider from "@radix-ui/react-slider";
import { Maximize, Pause, Play } from "lucide-react";
import { type KeyboardEvent, type RefObject, useEffect, useRef, useState } from "react";

import type { FilmDetail } from "../../api/client";

export const filmAddress = (number: number) => `/api/films/${number}/file`;

/** Where in a film a layer begins, and which layer is seen at a second. */
export function layerAt(film: FilmDetail, second: number): number | null {
  let found: number | null = null;
  for (const [layer, begins] of film.layers ?? []) {
    if (begins! > second + 0.001) break;
    found = layer!;
  }
  return found;
}

/** The second at which a film shows a layer: the layer itself, or the last one below it that it shows. */
export function secondOf(film: FilmDetail, layer: number): number {
  let found = 0;
  for (const [number, begins] of film.layers ?? []) {
    if (number! > layer) break;
    found = begins!;
  }
  return found;
}

/**
 * A film with its own rule of time under it: marks where it was paused and where it failed. Space plays, the arrow keys go one picture,
 * with shift one layer, Home and End to its ends, F fills the screen.
 */
export function FilmPlayer({ film }: { film: FilmDetail }) {
  const video = useRef<HTMLVideoElement>(null);
  const frame = useRef<HTMLDivElement>(null);
  const [at, setAt] = useState(0);
  const [plays, setPlays] = useState(false);
  const [broken, setBroken] = useState(false);
  const step = 1 / (film.settings.fps ?? 25);
  const last = Math.max(0, film.seconds - step);
  useEvenTime(video, setAt);
  const go = (second: number) => {
    const there = Math.min(Math.max(0, second), last);
    if (video.current) video.current.currentTime = there + step / 2;
    setAt(there);
  };
  const play = () => {
    if (!video.current) return;
    if (plays) video.current.pause();
    else {
      if (at >= last - step) video.current.currentTime = 0;
      void video.current.play();
    }
  };
  const layer = layerAt(film, at);
  const layers = film.layers ?? [];
  const nextLayer = (by: 1 | -1) => {
    const index = layers.findIndex(([n]) => n === layer);
    go(layers[Math.min(Math.max(0, index + by), layers.length - 1)]?.[1] ?? at);
  };
  const keys: Record<string, () => void> = {
    " ": play,
    ArrowRight: () => go(at + step),
    ArrowLeft: () => go(at - step),
    "shift ArrowRight": () => nextLayer(1),
    "shift ArrowLeft": () => nextLayer(-1),
    Home: () => go(0),
    End: () => go(last),
    f: () => void (document.fullscreenElement ? document.exitFullscreen() : frame.current?.requestFullscreen()),
  };
  const key = (e: KeyboardEvent) => {
    const deed = keys[(e.shiftKey ? "shift " : "") + (e.key.length === 1 ? e.key.toLowerCase() : e.key)];
    if (!deed || e.ctrlKey || e.metaKey || (e.key === " " && e.target instanceof HTMLButtonElement)) return;
    e.preventDefault();
    e.stopPropagation();
    if (e.key !== " " && e.key !== "f") video.current?.pause();
    deed();
  };
  const button = "grid h-9 w-9 shrink-0 place-items-center rounded-md border border-rule hover:bg-sunk";
  return (
    <div ref={frame} className="flex flex-col bg-sheet" onKeyDownCapture={key} data-testid="film">
      {broken ? (
        <p role="alert" className="m-0 bg-sunk px-6 py-16 text-center text-faded">
          This browser cannot play it. Download it, or have one made in the other form.
        </p>
      ) : (
        <video
          ref={video}
          src={filmAddress(film.number)}
          muted
          playsInline
          preload="auto"
          tabIndex={0}
          aria-label={`Film of build ${film.build}`}
          className="min-h-0 w-full flex-1 cursor-pointer bg-black object-contain"
          style={{ aspectRatio: `${film.width} / ${film.height}`, maxHeight: "70vh" }}
          onClick={play}
          onPlay={() => setPlays(true)}
          onPause={() => setPlays(false)}
          onError={() => setBroken(true)}
        />
      )}
      <div className="px-4 py-2.5">
        <div className="flex items-center gap-3">
          <button type="button" className={button} aria-label={plays ? "Stop playing" : "Play"} onClick={play}>
            {plays ? <Pause size={16} aria-hidden /> : <Play size={16} aria-hidden />}
          </button>
          <div className="relative min-w-0 flex-1">
            <Slider.Root
              min={0}
              max={Math.max(step, last)}
              step={step}
              value={[at]}
              onValueChange={([to]) => {
                video.current?.pause();
                go(to!);
              }}
              className="relative flex h-9 touch-none items-center select-none"
            >
              <Slider.Track className="relative h-1.5 flex-1 rounded-full bg-sunk">
                <Slider.Range className="absolute h-full rounded-full bg-rule" />
              </Slider.Track>
              <Slider.Thumb
                aria-label="Place in the film"
                aria-valuetext={`${at.toFixed(1)} s${layer ? `, layer ${layer}` : ""}`}
                className="block h-4 w-4 rounded-full border-2 border-sheet bg-ink"
              />
            </Slider.Root>
            {(film.marks ?? []).map((mark) => (
              <button
                key={`${mark.second} ${mark.text}`}
                type="button"
                title={mark.text}
                aria-label={`${mark.text}, at ${mark.second.toFixed(1)} s`}
                onClick={() => {
                  video.current?.pause();
                  go(mark.second);
                }}
                className="absolute top-0 h-3 w-1.5 -translate-x-1/2 rounded-full"
                style={{
                  left: `calc(8px + ${Math.min(1, mark.second / Math.max(step, last)).toFixed(4)} * (100% - 16px))`,
                  background: mark.bad ? "var(--alarm)" : "var(--paused)",
                }}
              />
            ))}
          </div>
          <button type="button" className={button} aria-label="Fill the screen" onClick={keys.f}>
            <Maximize size={16} aria-hidden />
          </button>
        </div>
        <p className="m-0 mt-0.5 flex justify-between gap-4 text-sm text-faded">
          <span className="text-ink">
            {layer === null ? "before the first layer" : `Layer ${layer} of ${layers.at(-1)?.[0]}`}
          </span>
          <span>
            {at.toFixed(1)} of {film.seconds.toFixed(1)} s
          </span>
        </p>
      </div>
    </div>
  );
}

/** Tells a video's time with every picture that is drawn while it plays. */
function useEvenTime(video: RefObject<HTMLVideoElement | null>, tell: (second: number) => void) {
  useEffect(() => {
    let next = 0;
    const look = () => {
      const v = video.current;
      if (v && !v.paused) tell(v.currentTime);
      next = requestAnimationFrame(look);
    };
    next = requestAnimationFrame(look);
    return () => cancelAnimationFrame(next);
  }, [video, tell]);
}
