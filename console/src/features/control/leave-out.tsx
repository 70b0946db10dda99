import { Circle, Square } from "lucide-react";
import { useState } from "react";

import { api, type Build, type MachineDetail, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { duration, when } from "../../ui/format";
import { Refusal } from "../../ui/page";
import type { BedObject } from "../../viewer/layer-canvas";

export type Shape = "rectangle" | "circle";

/** Whether a drawn shape (two corners, or middle and rim; mm) takes an object in: its middle lies within. */
export function within(shape: Shape, [a, b]: [number[], number[]], o: BedObject): boolean {
  const xs = o.outline.map((p) => p[0]!);
  const ys = o.outline.map((p) => p[1]!);
  const [x, y] = [(Math.min(...xs) + Math.max(...xs)) / 2, (Math.min(...ys) + Math.max(...ys)) / 2];
  if (shape === "circle") return Math.hypot(x - a[0]!, y - a[1]!) <= Math.hypot(b[0]! - a[0]!, b[1]! - a[1]!);
  return (x - a[0]!) * (x - b[0]!) <= 0 && (y - a[1]!) * (y - b[1]!) <= 0;
}

/** Leaving objects out of a running build: which, what that comes to, and a way back until their layer begins. */
export function LeaveOut({
  machine: m,
  build,
  objects,
  picked,
  pick,
  drawing,
  draw,
  close,
}: {
  machine: MachineDetail;
  build: Build;
  objects: BedObject[];
  picked: string[];
  pick: (names: string[]) => void;
  drawing: Shape | null;
  draw: (shape: Shape | null) => void;
  close: () => void;
}) {
  const now = useNow();
  const path = { params: { path: { number: build.id } } };
  const [plan, setPlan] = useState<Awaited<ReturnType<typeof preview>> | null>(null);
  const gone = (build.skips ?? []).map((s) => s.object);
  const preview = (names: string[]) => value(api.POST("/api/builds/{number}/skip/preview", { ...path, body: { objects: names } }));
  const look = useChange((names: string[]) => preview(names).then(setPlan));
  const skip = useChange(
    (names: string[]) => value(api.POST("/api/builds/{number}/skip", { ...path, body: { objects: names } })).then(() => pick([])).then(close),
    "build",
    "changes",
    "machine",
  );
  const toggle = (name: string) => {
    setPlan(null);
    pick(picked.includes(name) ? picked.filter((x) => x !== name) : [...picked, name]);
  };
  const current = plan && plan.objects.length === picked.length && plan.objects.every((o) => picked.includes(o)) ? plan : null;
  const tool = (shape: Shape, icon: typeof Square, word: string) => {
    const Icon = icon;
    return (
      <Button aria-pressed={drawing === shape} className={drawing === shape ? "!bg-ink !text-ground" : ""} onClick={() => draw(drawing === shape ? null : shape)}>
        <Icon size={14} aria-hidden /> {word}
      </Button>
    );
  };
  return (
    <div className="border-b border-rule bg-sunk/40 px-5 py-4" data-testid="leave-out">
      <div className="flex flex-wrap items-center gap-2">
        <p className="m-0 mr-auto font-medium">What should not be laid any more?</p>
        {tool("rectangle", Square, "Rectangle")}
        {tool("circle", Circle, "Circle")}
      </div>
      <ul className="m-0 mt-3 flex list-none flex-wrap gap-2 p-0">
        {objects.map((o) => (
          <li key={o.name}>
            <label
              className={`flex min-h-9 items-center gap-2 rounded-md border px-3 text-sm ${gone.includes(o.name) ? "border-rule text-faded line-through" : picked.includes(o.name) ? "border-alarm bg-alarm-wash" : "border-rule bg-sheet"}`}
            >
              <input type="checkbox" disabled={gone.includes(o.name)} checked={picked.includes(o.name) || gone.includes(o.name)} onChange={() => toggle(o.name)} />
              {o.name}
            </label>
          </li>
        ))}
      </ul>
      {current && (
        <p className="mt-3 mb-0" aria-live="polite">
          From layer <strong>{current.from_layer}</strong> of {current.layers} on, {current.remaining.length} of {objects.length} remain (
          {current.remaining.join(", ")}). Ends <strong>{when(current.expected_end, now)}</strong>, {duration(current.saved_s)} earlier. It
          can be undone until that layer begins.
        </p>
      )}
      <div className="mt-3 flex flex-wrap items-center gap-2">
        <Refusal error={look.error ?? skip.error} />
        <span className="flex-1" />
        <Button kind="quiet" onClick={close}>
          Cancel
        </Button>
        {current ? (
          <Button kind="danger" asked={skip.isPending} onClick={() => skip.mutate(picked)}>
            Leave out {picked.length === 1 ? picked[0] : `${picked.length} objects`}
          </Button>
        ) : (
          <Button kind="strong" disabled={picked.length === 0} asked={look.isPending} onClick={() => look.mutate(picked)}>
            See what remains
          </Button>
        )}
      </div>
      <span className="sr-only">{m.name}</span>
    </div>
  );
}

/** What has been left out so far, each with its way back while there is one. */
export function LeftOut({ build, layer }: { build: Build; layer: number }) {
  const undo = useChange(
    (name: string) =>
      value(api.DELETE("/api/builds/{number}/skip/{name}", { params: { path: { number: build.id, name } } })),
    "build",
    "changes",
    "machine",
  );
  if (!build.skips?.length) return null;
  return (
    <div className="border-b border-rule px-5 py-2.5 text-sm">
      {build.skips.map((s) => (
        <p key={s.object} className="my-1 flex items-center gap-3">
          <span>
            <strong>{s.object}</strong> is left out from layer {s.from_layer} on.
          </span>
          {layer < s.from_layer && !build.outcome && (
            <Button asked={undo.isPending && undo.variables === s.object} onClick={() => undo.mutate(s.object)}>
              Lay it after all
            </Button>
          )}
        </p>
      ))}
      <Refusal error={undo.error} />
    </div>
  );
}
