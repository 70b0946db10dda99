import { Maximize, Minus, Plus } from "lucide-react";
import { type PointerEvent, type ReactNode, useCallback, useEffect, useRef, useState } from "react";

const MOST = 8;

interface View {
  scale: number;
  x: number;
  y: number;
}
const WHOLE: View = { scale: 1, x: 0, y: 0 };

/** What it holds can be looked at closely: wheel, pinch and drag, two buttons, and the whole screen. */
export function Zoom({ label, children, className = "" }: { label: string; children: ReactNode; className?: string }) {
  const frame = useRef<HTMLDivElement>(null);
  const [view, setView] = useState(WHOLE);
  const whole = useRef(true);
  whole.current = view.scale <= 1;
  const fingers = useRef(new Map<number, { x: number; y: number }>());

  /** Zoom by a factor, so that what is under a spot (from the middle, px) stays there. */
  const zoom = useCallback((by: number, x = 0, y = 0) => {
    setView((v) => {
      const scale = Math.min(MOST, Math.max(1, v.scale * by));
      const real = scale / v.scale;
      return held({ scale, x: x - (x - v.x) * real, y: y - (y - v.y) * real }, frame.current);
    });
  }, []);
  useEffect(() => {
    const on = frame.current;
    if (!on) return;
    const wheel = (e: WheelEvent) => {
      if (e.deltaY > 0 && whole.current) return; // the page scrolls on
      e.preventDefault();
      const r = on.getBoundingClientRect();
      zoom(Math.exp(-e.deltaY / 400), e.clientX - r.left - r.width / 2, e.clientY - r.top - r.height / 2);
    };
    on.addEventListener("wheel", wheel, { passive: false });
    return () => on.removeEventListener("wheel", wheel);
  }, [zoom]);

  const down = (e: PointerEvent) => {
    fingers.current.set(e.pointerId, { x: e.clientX, y: e.clientY });
    if (view.scale > 1 || fingers.current.size > 1) frame.current?.setPointerCapture(e.pointerId);
  };
  const move = (e: PointerEvent) => {
    const before = fingers.current.get(e.pointerId);
    if (!before) return;
    const others = [...fingers.current].filter(([id]) => id !== e.pointerId).map(([, at]) => at);
    const [other] = others;
    const r = frame.current!.getBoundingClientRect();
    if (other) {
      const was = Math.hypot(before.x - other.x, before.y - other.y);
      const is = Math.hypot(e.clientX - other.x, e.clientY - other.y);
      const middle = { x: (e.clientX + other.x) / 2 - r.left - r.width / 2, y: (e.clientY + other.y) / 2 - r.top - r.height / 2 };
      if (was > 0) zoom(is / was, middle.x, middle.y);
    } else {
      setView((v) => held({ ...v, x: v.x + e.clientX - before.x, y: v.y + e.clientY - before.y }, frame.current));
    }
    fingers.current.set(e.pointerId, { x: e.clientX, y: e.clientY });
  };
  const up = (e: PointerEvent) => fingers.current.delete(e.pointerId);
  const button = "grid h-9 w-9 place-items-center rounded-md bg-black/50 text-white hover:bg-black/70";
  return (
    <div
      ref={frame}
      role="group"
      aria-label={label}
      tabIndex={0}
      className={`group relative overflow-hidden bg-sunk ${view.scale > 1 ? "cursor-grab touch-none active:cursor-grabbing" : "touch-pan-y"} ${className}`}
      onPointerDown={down}
      onPointerMove={move}
      onPointerUp={up}
      onPointerCancel={up}
      onDoubleClick={() => setView(WHOLE)}
      onKeyDown={(e) => {
        if (e.key === "+") zoom(1.5);
        if (e.key === "-") zoom(1 / 1.5);
        if (e.key === "0") setView(WHOLE);
      }}
    >
      <div
        className="h-full w-full"
        style={{ transform: `translate(${view.x}px, ${view.y}px) scale(${view.scale})` }}
        data-zoom={view.scale.toFixed(2)}
      >
        {children}
      </div>
      <div className="absolute right-2 bottom-2 flex gap-1 opacity-80 transition-opacity group-hover:opacity-100">
        <button type="button" className={button} aria-label="Closer" onClick={() => zoom(1.5)}>
          <Plus size={17} aria-hidden />
        </button>
        <button type="button" className={button} aria-label="Farther" disabled={view.scale <= 1} onClick={() => zoom(1 / 1.5)}>
          <Minus size={17} aria-hidden />
        </button>
        <button
          type="button"
          className={button}
          aria-label="Whole screen"
          onClick={() => void (document.fullscreenElement ? document.exitFullscreen() : frame.current?.requestFullscreen())}
        >
          <Maximize size={16} aria-hidden />
        </button>
      </div>
    </div>
  );
}

/** Moved no farther than to the picture's edge. */
function held(view: View, frame: HTMLElement | null): View {
  const most = { x: ((frame?.clientWidth ?? 0) * (view.scale - 1)) / 2, y: ((frame?.clientHeight ?? 0) * (view.scale - 1)) / 2 };
  const within = (value: number, limit: number) => Math.min(limit, Math.max(-limit, value));
  return { scale: view.scale, x: within(view.x, most.x), y: within(view.y, most.y) };
}
