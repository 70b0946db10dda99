import * as Slider from "@radix-ui/react-slider";
import { ChevronLeft, ChevronRight } from "lucide-react";
import { type KeyboardEvent, useEffect, useState } from "react";

import type { KeptFrame } from "../../api/client";
import { clock, when } from "../../ui/format";
import { useNow } from "../../api/live";

const SAYS: Partial<Record<KeptFrame["why"], string>> = {
  start: "the start",
  end: "the end",
  pause: "a pause",
  fault: "a fault",
  suspicion: "a suspicion",
  verdict: "the verdict",
};

/**
 * A slider through a build's kept frames; its right end is now. `shown` is the frame that is looked at, null for now. The arrow keys
 * go one frame back and forth, Home and End to the first and to now.
 */
export function LookBack({
  frames,
  shown,
  show,
  live,
}: {
  frames: KeptFrame[];
  shown: KeptFrame | null;
  show: (frame: KeptFrame | null) => void;
  /** Whether its right end is the live picture; else it is the last frame. */
  live: boolean;
}) {
  const now = useNow(5000);
  const last = live ? frames.length : frames.length - 1;
  const at = shown ? Math.max(0, frames.findLastIndex((f) => f.number <= shown.number)) : last; // the one shown may be kept no more
  const go = (to: number) => show(frames[Math.min(Math.max(0, to), last)] ?? null);
  if (frames.length === 0)
    return <p className="m-0 px-4 pb-2.5 text-sm text-faded">No frames of this build are kept yet; looking back begins with the first.</p>;
  const marks = frames.map((f, i) => ({ f, i })).filter(({ f }) => SAYS[f.why] && f.why !== "start" && f.why !== "end");
  const keys = (e: KeyboardEvent) => {
    if (e.key === "," || e.key === ".") go(at + (e.key === "," ? -1 : 1));
  };
  const button = "grid h-9 w-8 shrink-0 place-items-center rounded-md hover:bg-sunk disabled:opacity-35";
  return (
    <div className="px-3 pb-2.5" onKeyDown={keys}>
      <div className="flex items-center gap-1.5">
        <button type="button" className={button} aria-label="One frame back" disabled={at <= 0} onClick={() => go(at - 1)}>
          <ChevronLeft size={18} aria-hidden />
        </button>
        <div className="relative min-w-0 flex-1">
          <Slider.Root
            min={0}
            max={Math.max(1, last)}
            step={1}
            value={[at]}
            onValueChange={([to]) => go(to!)}
            className="relative flex h-9 touch-none items-center select-none"
          >
            <Slider.Track className="relative h-1.5 flex-1 rounded-full bg-sunk">
              <Slider.Range className="absolute h-full rounded-full bg-rule" />
            </Slider.Track>
            <Slider.Thumb
              aria-label="Look back"
              aria-valuetext={shown ? `${clock(shown.at)}, layer ${shown.layer}` : "now"}
              className={`block h-4 w-4 rounded-full border-2 border-sheet ${shown ? "bg-ink" : "bg-brass"}`}
            />
          </Slider.Root>
          {marks.map(({ f, i }) => (
            <button
              key={f.number}
              type="button"
              title={`${SAYS[f.why]} at ${clock(f.at)}`}
              aria-label={`${SAYS[f.why]} at ${clock(f.at)}`}
              onClick={() => show(f)}
              className="absolute top-0 h-2.5 w-1 -translate-x-1/2 rounded-full"
              style={{ left: `calc(8px + ${(i / Math.max(1, last)).toFixed(4)} * (100% - 16px))`, background: f.why === "pause" ? "var(--paused)" : f.why === "verdict" ? "var(--faded)" : "var(--alarm)" }}
            />
          ))}
        </div>
        <button type="button" className={button} aria-label="One frame forth" disabled={at >= last} onClick={() => go(at + 1)}>
          <ChevronRight size={18} aria-hidden />
        </button>
      </div>
      <div className="flex items-baseline justify-between gap-3 px-1 text-sm">
        <span className="text-faded">{when(frames[0]!.at, now)}</span>
        {shown ? (
          <span className="font-semibold">
            {when(shown.at, now)}
            {shown.layer ? `, layer ${shown.layer}` : ""}
            {SAYS[shown.why] ? `, ${SAYS[shown.why]}` : ""}
          </span>
        ) : (
          <span className="text-faded">{frames.length === 1 ? "one frame is kept" : `${frames.length} frames are kept`}</span>
        )}
        {live ? (
          <button type="button" className={shown ? "font-semibold text-brass underline" : "text-brass"} disabled={!shown} onClick={() => show(null)}>
            now
          </button>
        ) : (
          <span className="text-faded">{when(frames.at(-1)!.at, now)}</span>
        )}
      </div>
    </div>
  );
}

/** A kept frame. The one before stays until it is there, and its neighbours are fetched ahead. */
export function FramePicture({ frame, frames }: { frame: KeptFrame; frames: KeptFrame[] }) {
  const [shown, setShown] = useState<{ number: number; url: string } | null>(null);
  const [missing, setMissing] = useState(false);
  useEffect(() => {
    let wanted = true;
    const url = `/api/frames/${frame.number}`;
    const picture = new Image();
    picture.onload = () => {
      if (!wanted) return;
      setShown({ number: frame.number, url });
      setMissing(false);
      const at = frames.findIndex((f) => f.number === frame.number);
      for (const near of [at + 1, at - 1, at + 2]) if (frames[near]) new Image().src = `/api/frames/${frames[near].number}`;
    };
    picture.onerror = () => wanted && setMissing(true);
    picture.src = url;
    return () => {
      wanted = false;
    };
  }, [frame.number, frames]);
  return (
    <div className="relative h-full w-full bg-sunk">
      {shown && (
        <img src={shown.url} alt={`Frame of ${clock(frame.at)}`} data-number={shown.number} className="absolute inset-0 h-full w-full object-contain" />
      )}
      {missing && <div className="absolute inset-0 grid place-items-center text-sm text-faded">This frame has been thinned out.</div>}
    </div>
  );
}
