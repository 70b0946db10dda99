import { useMutation } from "@tanstack/react-query";
import { type KeyboardEvent, type PointerEvent, useEffect, useRef, useState } from "react";

import { api, type BedSight, type Camera, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Refusal } from "../../ui/page";
import { useNow } from "../../api/live";
import { useBedSight } from "./watch-queries";

type Corner = [number, number];
const NAMES = ["the origin", "along x from the origin", "the one opposite the origin", "along y from the origin", "the very tip of the nozzle"];
const TIP = 4;

/** Mark the bed's corners in the newest picture of a camera, and see the grid that follows from them. The fifth mark, if
 * there is one, is the nozzle's tip. */
export function BedCorners({ camera, close }: { camera: Camera; close: () => void }) {
  const kept = useBedSight(camera.name);
  const now = useNow(10_000);
  const [corners, setCorners] = useState<Corner[]>([]);
  const [wanted, want] = useState(TIP);
  const [chosen, choose] = useState(0);
  const [shown, show] = useState(() => Date.now());
  const [size, setSize] = useState<[number, number] | null>(null);
  const path = { params: { path: { name: camera.name } } };
  const check = useMutation({
    mutationFn: (at: Corner[]) => value(api.POST("/api/cameras/{name}/bed/check", { ...path, body: asBody(at) })),
    onSuccess: () => show(Date.now()), // what is marked lies in the picture that was looked at
  });
  const save = useChange(
    () => value(api.PUT("/api/cameras/{name}/bed", { ...path, body: asBody(corners) })).then(close),
    "watch",
    "cameras",
  );
  const forget = useChange(() => value(api.DELETE("/api/cameras/{name}/bed", path)).then(close), "watch", "cameras");
  useEffect(() => {
    if (kept.data) setCorners((before) => (before.length ? before : (kept.data.corners as Corner[])));
  }, [kept.data]);
  const find = useMutation({
    mutationFn: () => value(api.GET("/api/cameras/{name}/bed/offer", path)),
    onSuccess: (found) => set([...(found.corners as Corner[]), ...corners.slice(TIP)]),
  });
  const set = (at: Corner[]) => {
    setCorners(at);
    if (at.length >= TIP) check.mutate(at);
    else check.reset();
  };
  const sight = check.data ?? (corners.length >= TIP && !check.error ? kept.data : undefined);
  const next = corners.length < wanted ? corners.length : undefined;
  return (
    <Dialog
      open
      close={close}
      wide
      title={`The bed in the picture of ${camera.name}`}
      text="Clear the bed, home the machine and move its head up and aside, so that the whole bed is seen. Then mark the bed's four corners: the origin first, then around the bed along x."
    >
      <Marks
        picture={`/api/cameras/${encodeURIComponent(camera.name)}/frame?at=${shown}`}
        size={size}
        onSize={setSize}
        corners={corners}
        wanted={wanted}
        set={set}
        chosen={chosen}
        choose={choose}
        sight={sight}
      />
      <div className="-mt-1 -ml-3.5 flex flex-wrap">
        <Button kind="quiet" asked={find.isPending} onClick={() => find.mutate(undefined)}>
          Find them
        </Button>
        {corners.length >= TIP && (
          <Button kind="quiet" onClick={() => set([...corners.slice(1, TIP), corners[0]!, ...corners.slice(TIP)])}>
            The next is the origin
          </Button>
        )}
        {corners.length === TIP && (
          <Button kind="quiet" disabled={wanted > TIP} onClick={() => want(TIP + 1)}>
            Mark the nozzle
          </Button>
        )}
        {corners.length > TIP && (
          <Button
            kind="quiet"
            onClick={() => {
              want(TIP);
              set(corners.slice(0, TIP));
            }}
          >
            Without the nozzle
          </Button>
        )}
        <Button
          kind="quiet"
          disabled={!corners.length}
          onClick={() => {
            want(TIP);
            set([]);
          }}
        >
          Start again
        </Button>
      </div>
      <p className="m-0 min-h-10 text-sm text-faded" aria-live="polite">
        {next === TIP ? (
          <>
            Press on <strong className="text-ink">{NAMES[TIP]}</strong>: a homed machine knows how high it is, so things stand upright where the camera looks steeply down.
          </>
        ) : corners.length < TIP ? (
          <>
            Press on corner {corners.length + 1}: <strong className="text-ink">{NAMES[corners.length]}</strong>. Or have them found by the bed's edges, and drag those that are beside it.
          </>
        ) : sight ? (
          <Says sight={sight} />
        ) : (
          "Working it out…"
        )}
        {kept.data?.set_at && ` Marked ${when(kept.data.set_at, now)} by ${kept.data.set_by}.`}
      </p>
      <Refusal error={check.error ?? save.error ?? forget.error ?? find.error} />
      <div className="flex flex-wrap justify-end gap-2">
        {kept.data && (
          <Button kind="danger" className="mr-auto" asked={forget.isPending} onClick={() => forget.mutate(undefined)}>
            Forget them
          </Button>
        )}
        <Button kind="quiet" onClick={close}>
          Cancel
        </Button>
        <Button kind="strong" disabled={corners.length < TIP || check.isPending || check.error !== null} asked={save.isPending} onClick={() => save.mutate(undefined)}>
          The bed is clear: keep
        </Button>
      </div>
    </Dialog>
  );
}

const asBody = (at: Corner[]) => ({ corners: at.slice(0, TIP) as never, tip: (at[TIP] ?? null) as never });

function Says({ sight }: { sight: BedSight }) {
  const [x, y, z] = sight.eye_mm as unknown as number[];
  const good = sight.error_px <= 0.005 * sight.width;
  return (
    <>
      The corners miss by{" "}
      <strong className={good ? "text-ink" : "text-alarm"}>{sight.error_px.toFixed(1)} px</strong>
      {good ? ": the grid should lie on the bed." : ": drag those that are beside the bed."} The camera is {Math.round(z ?? 0)} mm above the bed, at x{" "}
      {Math.round(x ?? 0)}, y {Math.round(y ?? 0)} mm{sight.mirrored ? "; its picture is mirrored" : ""}.
    </>
  );
}

interface MarksProps {
  picture: string;
  size: [number, number] | null;
  onSize: (size: [number, number]) => void;
  corners: Corner[];
  wanted: number;
  set: (corners: Corner[]) => void;
  chosen: number;
  choose: (corner: number) => void;
  sight: BedSight | undefined;
}

/** The picture with its corners, which are pressed, dragged, or moved by the arrow keys. */
function Marks({ picture, size, onSize, corners, wanted, set, chosen, choose, sight }: MarksProps) {
  const svg = useRef<SVGSVGElement>(null);
  const [held, hold] = useState<number | null>(null);
  const [moved, setMoved] = useState<Corner[] | null>(null);
  const [missing, setMissing] = useState(false);
  const shown = moved ?? corners;
  const place = (e: PointerEvent): Corner => {
    const box = svg.current!.getBoundingClientRect();
    const [wide, high] = size ?? [1, 1];
    return [
      Math.round((((e.clientX - box.left) / box.width) * wide + Number.EPSILON) * 10) / 10,
      Math.round((((e.clientY - box.top) / box.height) * high + Number.EPSILON) * 10) / 10,
    ];
  };
  const keys = (e: KeyboardEvent) => {
    const step = e.shiftKey ? 10 : 1;
    const by = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] }[e.key];
    const at = corners[chosen];
    if (!by || !at) return;
    e.preventDefault();
    set(corners.map((c, n) => (n === chosen ? [c[0] + by[0]!, c[1] + by[1]!] : c)));
  };
  if (missing) return <p className="m-0 rounded-md bg-sunk px-4 py-10 text-center text-faded">There is no picture of this camera now.</p>;
  const mark = (size?.[0] ?? 640) / 60;
  return (
    <div className="relative overflow-hidden rounded-md bg-sunk">
      <img src={picture} alt="" className="block w-full" onLoad={(e) => onSize([e.currentTarget.naturalWidth, e.currentTarget.naturalHeight])} onError={() => setMissing(!size)} />
      {size && (
        <svg
          ref={svg}
          role="application"
          aria-label="Corners of the bed"
          viewBox={`0 0 ${size[0]} ${size[1]}`}
          className="absolute inset-0 h-full w-full cursor-crosshair touch-none"
          onPointerDown={(e) => {
            if (held === null && corners.length < wanted) {
              choose(corners.length);
              set([...corners, place(e)]);
            }
          }}
          onPointerMove={(e) => held !== null && setMoved(corners.map((c, n) => (n === held ? place(e) : c)))}
          onPointerUp={() => {
            if (moved) set(moved);
            setMoved(null);
            hold(null);
          }}
          onKeyDown={keys}
        >
          {!moved &&
            sight?.lines.map((line, n) => (
              <polyline key={n} points={(line as Corner[]).map((p) => p.join(",")).join(" ")} fill="none" stroke="white" strokeOpacity={n < 2 || n > 19 ? 0.95 : 0.5} strokeWidth={mark / 10} />
            ))}
          {moved && <polygon points={shown.slice(0, TIP).map((c) => c.join(",")).join(" ")} fill="none" stroke="white" strokeWidth={mark / 10} />}
          {shown.map(([x, y], n) => (
            <g
              key={n}
              tabIndex={0}
              role="button"
              aria-label={n === TIP ? "The nozzle's tip" : `Corner ${n + 1}, ${NAMES[n]}`}
              onFocus={() => choose(n)}
              onPointerDown={(e) => {
                e.stopPropagation();
                svg.current?.setPointerCapture(e.pointerId);
                choose(n);
                hold(n);
              }}
              className="cursor-move outline-none"
            >
              <circle cx={x} cy={y} r={mark} fill={n === chosen ? "var(--brass)" : "white"} fillOpacity={0.92} stroke="black" strokeWidth={mark / 12} />
              <text x={x} y={y} dy="0.36em" textAnchor="middle" fontSize={mark * 1.25} fontWeight={700} fill={n === chosen ? "white" : "black"}>
                {n === TIP ? "N" : n + 1}
              </text>
            </g>
          ))}
        </svg>
      )}
    </div>
  );
}
