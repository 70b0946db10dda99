import { useEffect, useRef, useState } from "react";

import type { Camera } from "../../api/client";
import { type LiveFrame, type Size, useLooking } from "../../api/looking";
import { clock, duration } from "../../ui/format";

const STALE_MS = 12_000;

/** What a camera sees now, drawn as frames come; says so when none come. It looks only while it can be seen. */
export function LivePicture({
  camera,
  size = "full",
  rate = 5,
  fit = "contain",
  quiet = false,
  onFrame,
}: {
  camera: Camera;
  size?: Size;
  /** Frames a second. */
  rate?: number;
  fit?: "contain" | "cover";
  /** Say what is wrong in a word; there is no room for a sentence. */
  quiet?: boolean;
  onFrame?: (frame: LiveFrame) => void;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const box = useRef<HTMLDivElement>(null);
  const [seen, setSeen] = useState(false);
  const [shownAt, setShownAt] = useState<number | null>(null);
  const [, tick] = useState(0);
  useEffect(() => {
    const observer = new IntersectionObserver((entries) => setSeen(entries.some((e) => e.isIntersecting)), { rootMargin: "120px" });
    if (box.current) observer.observe(box.current);
    return () => observer.disconnect();
  }, []);
  useEffect(() => {
    setShownAt(null);
  }, [camera.name]);
  useEffect(() => {
    const timer = setInterval(() => tick((n) => n + 1), 2000);
    return () => clearInterval(timer);
  }, []);
  useLooking(camera.name, size, rate, seen, (frame) => {
    const on = canvas.current;
    if (!on) return;
    if (on.width !== frame.picture.width || on.height !== frame.picture.height) {
      on.width = frame.picture.width;
      on.height = frame.picture.height;
    }
    on.getContext("2d")?.drawImage(frame.picture, 0, 0);
    on.dataset.takenAt = frame.takenAt;
    on.dataset.at = frame.at;
    setShownAt(performance.now());
    onFrame?.(frame);
  });
  const late = shownAt !== null && performance.now() - shownAt > STALE_MS;
  const trouble = camera.trouble;
  return (
    <div ref={box} className="relative h-full w-full overflow-hidden bg-sunk">
      <canvas
        ref={canvas}
        role="img"
        aria-label={`${camera.name}, live picture`}
        className={`h-full w-full ${fit === "cover" ? "object-cover" : "object-contain"} ${shownAt === null ? "invisible" : ""} ${trouble || late ? "opacity-40" : ""}`}
      />
      {(trouble || late || shownAt === null) && (
        <div className="absolute inset-0 grid place-items-center p-3 text-center text-sm">
          {trouble ? (
            <span className="rounded-md bg-sheet/90 px-3 py-2 text-alarm">
              {quiet ? "no picture" : `No picture: ${trouble.text}`}
              <span className="block text-faded">since {clock(trouble.since)}</span>
            </span>
          ) : late ? (
            <span className="rounded-md bg-sheet/90 px-3 py-2 text-faded">
              nothing new for {duration((performance.now() - shownAt) / 1000)}
            </span>
          ) : (
            <span className="text-faded">{quiet ? "…" : "Asking for a picture…"}</span>
          )}
        </div>
      )}
    </div>
  );
}
