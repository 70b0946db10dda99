import * as Slider from "@radix-ui/react-slider";
import { Pause, Play } from "lucide-react";
import { type KeyboardEvent, useEffect, useRef, useState } from "react";
import { Link } from "react-router";

import type { FilmDetail } from "../../api/client";
import { filmAddress, secondOf } from "./film-player";

const LAYERS_PER_S = 6;

/** Two films beside each other, in step by layer: the same layer in both, however long each took. */
export function FilmPair({ films }: { films: [FilmDetail, FilmDetail] }) {
  const last = Math.max(...films.map((f) => f.layers?.at(-1)?.[0] ?? 1));
  const first = Math.min(...films.map((f) => f.layers?.[0]?.[0] ?? 1));
  const [layer, setLayer] = useState(first);
  const [plays, setPlays] = useState(false);
  useEffect(() => {
    if (!plays) return;
    const timer = setTimeout(() => (layer < last ? setLayer(layer + 1) : setPlays(false)), 1000 / LAYERS_PER_S);
    return () => clearTimeout(timer);
  });
  const go = (to: number) => {
    setPlays(false);
    setLayer(Math.min(Math.max(first, to), last));
  };
  const play = () => {
    if (!plays && layer >= last) setLayer(first);
    setPlays(!plays);
  };
  const key = (e: KeyboardEvent) => {
    if (e.key === "," || e.key === ".") go(layer + (e.key === "," ? -1 : 1));
  };
  return (
    <div onKeyDown={key}>
      <div className="grid gap-px bg-rule sm:grid-cols-2">
        {films.map((film, n) => (
          <Side key={`${film.number} ${n}`} film={film} layer={layer} />
        ))}
      </div>
      <div className="flex items-center gap-3 px-4 py-2.5">
        <button
          type="button"
          className="grid h-9 w-9 shrink-0 place-items-center rounded-md border border-rule hover:bg-sunk"
          aria-label={plays ? "Stop playing both" : "Play both"}
          onClick={play}
        >
          {plays ? <Pause size={16} aria-hidden /> : <Play size={16} aria-hidden />}
        </button>
        <Slider.Root
          min={first}
          max={Math.max(first + 1, last)}
          value={[layer]}
          onValueChange={([to]) => go(to!)}
          className="relative flex h-9 flex-1 touch-none items-center select-none"
        >
          <Slider.Track className="relative h-1.5 flex-1 rounded-full bg-sunk">
            <Slider.Range className="absolute h-full rounded-full bg-rule" />
          </Slider.Track>
          <Slider.Thumb aria-label="Layer in both" className="block h-4 w-4 rounded-full border-2 border-sheet bg-ink" />
        </Slider.Root>
        <span className="w-36 text-right text-sm">
          Layer <strong>{layer}</strong> of {last}
        </span>
      </div>
    </div>
  );
}

function Side({ film, layer }: { film: FilmDetail; layer: number }) {
  const video = useRef<HTMLVideoElement>(null);
  const end = film.layers?.at(-1)?.[0] ?? 0;
  const over = layer > end;
  useEffect(() => {
    if (video.current) video.current.currentTime = over ? film.seconds - 0.01 : secondOf(film, layer) + 0.5 / (film.settings.fps ?? 25);
  }, [film, layer, over]);
  return (
    <div className="bg-sheet">
      <video
        ref={video}
        src={filmAddress(film.number)}
        muted
        playsInline
        preload="auto"
        aria-label={`Film of build ${film.build}, layer ${Math.min(layer, end)}`}
        className="block w-full bg-black object-contain"
        style={{ aspectRatio: `${film.width} / ${film.height}` }}
      />
      <p className="m-0 flex justify-between gap-3 px-4 py-2 text-sm">
        <Link to={`/library/films/${film.number}`} className="font-semibold text-ink">
          Build {film.build}, {film.machine}
        </Link>
        <span className={over ? "text-alarm" : "text-faded"}>{over ? `it ended in layer ${end}` : film.outcome}</span>
      </p>
    </div>
  );
}
