import * as Menu from "@radix-ui/react-dropdown-menu";
import { ChevronDown, OctagonX, X } from "lucide-react";
import { useEffect, useState } from "react";

import { api, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog, Field, FormDialog, inputLook } from "../../ui/dialog";
import { percent } from "../../ui/format";
import { Refusal } from "../../ui/page";
import { ClearDialog } from "../orders/clear";
import { Needs } from "../../ui/needs";

type Deed = "pause" | "resume" | "stop" | "take-out" | "put-back" | "start-next" | "emergency-stop" | "filament";

/** What may be done with the machine and its build now. */
export function Deeds({ machine: m }: { machine: MachineDetail }) {
  const [asking, setAsking] = useState<"stop" | "clear" | "layer" | null>(null);
  const b = m.build;
  const run = useChange(
    async (deed: Deed) => {
      const path = { path: { number: b?.id ?? 0 } };
      const named = { params: { path: { name: m.name } } };
      if (deed === "pause") await value(api.POST("/api/builds/{number}/pause", { params: path, body: { reason: "" } }));
      if (deed === "filament") await value(api.POST("/api/builds/{number}/filament-change", { params: path, body: { reason: "" } }));
      if (deed === "resume") await value(api.POST("/api/builds/{number}/resume", { params: path }));
      if (deed === "stop") await value(api.POST("/api/builds/{number}/stop", { params: path, body: { reason: "" } }));
      if (deed === "take-out") await value(api.POST("/api/machines/{name}/take-out", { ...named, body: { reason: "" } }));
      if (deed === "put-back") await value(api.POST("/api/machines/{name}/put-back", named));
      if (deed === "start-next") await value(api.POST("/api/machines/{name}/start-next", named));
      if (deed === "emergency-stop") await value(api.POST("/api/machines/{name}/emergency-stop", named));
    },
    "machine",
    "builds",
    "jobs",
  );
  const before = usePauseBefore(b?.id ?? 0);
  const asked = (deed: Deed) => run.isPending && run.variables === deed;
  const running = b && !b.outcome;
  const going = running && m.state !== "paused";
  const planned = m.hands?.pauses_before ?? [];
  const item = "cursor-pointer rounded-md px-3 py-2 text-sm outline-none data-[highlighted]:bg-sunk";
  return (
    <div className="flex flex-col items-end gap-2">
      <div className="flex flex-wrap justify-end gap-2">
        {going && (
          <span className="flex">
            <Button needs="operate" at={m} asked={asked("pause")} className="!rounded-r-none" onClick={() => run.mutate("pause")}>
              Pause
            </Button>
            <Needs right="operate" at={m} quiet>
            <Menu.Root>
              <Menu.Trigger asChild>
                <button type="button" aria-label="More ways to pause" className="-ml-px min-h-9 rounded-r-md border border-rule bg-sheet px-1.5 hover:bg-sunk">
                  <ChevronDown size={15} />
                </button>
              </Menu.Trigger>
              <Menu.Portal>
                <Menu.Content align="end" sideOffset={6} className="fade-in z-40 min-w-56 rounded-lg border border-rule bg-sheet p-1.5 shadow-lg">
                  <Menu.Item className={item} disabled={(b.layer ?? 0) >= (b.layers ?? 0)} onSelect={() => before.mutate({ layer: 0 })}>
                    After this layer
                  </Menu.Item>
                  <Menu.Item className={item} onSelect={() => setAsking("layer")}>
                    Before a layer…
                  </Menu.Item>
                  <Menu.Item className={item} onSelect={() => run.mutate("filament")}>
                    To change filament
                  </Menu.Item>
                </Menu.Content>
              </Menu.Portal>
            </Menu.Root>
            </Needs>
          </span>
        )}
        {m.state === "paused" && (
          <>
            {!m.hands?.change && (
              <Button needs="operate" at={m} asked={asked("filament")} onClick={() => run.mutate("filament")}>
                Change filament
              </Button>
            )}
            <Button needs="operate" at={m} kind="strong" asked={asked("resume")} onClick={() => run.mutate("resume")}>
              Resume
            </Button>
          </>
        )}
        {running && (
          <Button needs="operate" at={m} kind="danger" asked={asked("stop")} onClick={() => setAsking("stop")}>
            Stop…
          </Button>
        )}
        {b?.outcome && (m.state === "uncleared" || m.state === "down") && (
          <Button needs="judge" at={m} kind="strong" onClick={() => setAsking("clear")}>
            Clear…
          </Button>
        )}
        {m.state === "idle" && m.intake === "manual" && (
          <Button needs="operate" at={m} kind="strong" asked={asked("start-next")} onClick={() => run.mutate("start-next")}>
            Start next
          </Button>
        )}
        {m.state === "idle" && (
          <Button needs="operate" at={m} asked={asked("take-out")} onClick={() => run.mutate("take-out")}>
            Take out
          </Button>
        )}
        {(m.state === "service" || m.state === "down") && (
          <Button needs="operate" at={m} asked={asked("put-back")} onClick={() => run.mutate("put-back")}>
            Put back
          </Button>
        )}
        {m.state !== "down" && m.reachable && <Halt machine={m} asked={asked("emergency-stop")} halt={() => run.mutate("emergency-stop")} />}
      </div>
      {running && planned.length > 0 && (
        <div className="flex flex-wrap justify-end gap-2">
          {planned.map((layer) => (
            <span key={layer} className="flex items-center gap-1 rounded-full border border-rule bg-sheet py-0.5 pr-1 pl-3 text-sm">
              pauses before layer {layer}
              <button type="button" className="rounded-full p-1 hover:bg-sunk" aria-label={`Do not pause before layer ${layer}`} onClick={() => before.mutate({ layer, cancel: true })}>
                <X size={13} />
              </button>
            </span>
          ))}
        </div>
      )}
      <Refusal error={run.error ?? before.error} />
      <Dialog
        open={asking === "stop"}
        close={() => setAsking(null)}
        title={`Stop build ${b?.id}?`}
        text={`${b?.file} on ${m.name} is at ${percent(b?.progress ?? 0)}. What was laid down so far is lost; the bed must be cleared afterwards.`}
      >
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={() => setAsking(null)}>
            Let it run
          </Button>
          <Button
            kind="danger"
            onClick={() => {
              setAsking(null);
              run.mutate("stop");
            }}
          >
            Stop the build
          </Button>
        </div>
      </Dialog>
      {asking === "clear" && b && <ClearDialog machine={m.name} build={b} close={() => setAsking(null)} />}
      {asking === "layer" && b && <LayerDialog build={b.id} now={b.layer ?? 0} layers={b.layers ?? 0} close={() => setAsking(null)} />}
    </div>
  );
}

const usePauseBefore = (number: number) =>
  useChange(
    ({ layer, cancel }: { layer: number; cancel?: boolean }) => {
      const params = { params: { path: { number, layer } } };
      return cancel
        ? value(api.DELETE("/api/builds/{number}/pauses/{layer}", params))
        : value(api.PUT("/api/builds/{number}/pauses/{layer}", params));
    },
    "machine",
  );

function LayerDialog({ build, now, layers, close }: { build: number; now: number; layers: number; close: () => void }) {
  const [layer, setLayer] = useState(String(Math.min(layers, now + 2)));
  const before = usePauseBefore(build);
  return (
    <FormDialog
      title="Pause before a layer"
      text="Everything below it is laid; then the head lifts and parks."
      close={close}
      send={() => before.mutate({ layer: Number(layer) }, { onSuccess: close })}
      asked={before.isPending}
      error={before.error}
      action="Plan the pause"
    >
      <Field label="Layer" hint={`It is at layer ${now} of ${layers}.`}>
        <input className={inputLook} inputMode="numeric" value={layer} onChange={(e) => setLayer(e.target.value)} autoFocus />
      </Field>
    </FormDialog>
  );
}

/** Two presses within three seconds: quick enough in need, and not done by a slip. */
function Halt({ machine, asked, halt }: { machine: MachineDetail; asked: boolean; halt: () => void }) {
  const [armed, setArmed] = useState(false);
  useEffect(() => {
    if (!armed) return;
    const timer = setTimeout(() => setArmed(false), 3000);
    return () => clearTimeout(timer);
  }, [armed]);
  return (
    <Button
      needs="operate"
      at={machine}
      kind="danger"
      asked={asked}
      className={armed ? "!bg-alarm !text-ground" : ""}
      onClick={() => {
        if (armed) halt();
        setArmed(!armed);
      }}
    >
      <OctagonX size={15} aria-hidden /> {armed ? "Press again to halt" : "Emergency stop"}
    </Button>
  );
}
