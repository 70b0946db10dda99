import { Check } from "lucide-react";

import { api, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { degrees } from "../../ui/format";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { type Action, useAct } from "./act";

const STEPS = [
  { key: "unload", action: "Unload", say: "The nozzle is heated, the old filament is pulled out. Take it off when it stops." },
  { key: "load", action: "Load", say: "Put the new filament in until it holds; it is drawn down to the nozzle." },
  { key: "purge", action: "Purge", say: "The old colour is pushed out. Do it again until the new one comes clean, then wipe the nozzle." },
] as const;

/** A change of filament in the middle of a build, step by step. */
export function FilamentChange({ machine: m }: { machine: MachineDetail }) {
  const run = useAct(m.name);
  const go = useChange(
    () => value(api.POST("/api/builds/{number}/resume", { params: { path: { number: m.build!.id } } })),
    "machine",
    "builds",
  );
  const done = STEPS.findIndex((s) => s.key === m.hands?.change);
  const parked = m.hands?.moment === "paused";
  const loaded = m.tools.map((t) => [t.colour, t.material].filter(Boolean).join(" ") || "nothing").join(", ");
  return (
    <Sheet className="border-ink">
      <SheetTitle beside={`loaded: ${loaded}`}>Change of filament</SheetTitle>
      <ol className="m-0 list-none px-5 pb-4">
        <Step n={1} done={parked} now={!parked} title="Park" say={parked ? `The head is parked; the nozzle is ${degrees(m.reading?.nozzle?.measured_c)}.` : "The head finishes its move, lifts and parks."} />
        {STEPS.map((s, i) => (
          <Step key={s.key} n={i + 2} done={done >= i} now={parked && done === i - 1} title={s.action} say={s.say}>
            {parked && done >= i - 1 && done <= i && (
              <Button
                kind={done === i - 1 ? "strong" : "plain"}
                asked={run.isPending && (run.variables as { step?: string }).step === s.key}
                disabled={run.isPending}
                onClick={() => run.mutate({ kind: "filament", step: s.key } as Action)}
              >
                {done === i ? `${s.action} again` : s.action}
              </Button>
            )}
          </Step>
        ))}
        <Step n={5} done={false} now={done === 2} title="Resume" say="Heat, position and filament are brought back; it goes on with the very next line.">
          {parked && (
            <Button kind={done === 2 ? "strong" : "plain"} disabled={run.isPending} asked={go.isPending} onClick={() => go.mutate(undefined)}>
              Resume
            </Button>
          )}
        </Step>
      </ol>
      <div className="px-5 pb-4 empty:hidden">
        <Refusal error={run.error ?? go.error} />
        {run.isPending && <p className="m-0 text-sm text-faded">The machine is at it; this can take minutes while it heats.</p>}
      </div>
    </Sheet>
  );
}

function Step({ n, done, now, title, say, children }: { n: number; done: boolean; now: boolean; title: string; say: string; children?: React.ReactNode }) {
  return (
    <li className={`flex items-start gap-3 border-b border-rule py-2.5 last:border-0 ${done || now ? "" : "text-faded"}`} aria-current={now ? "step" : undefined}>
      <span className={`mt-0.5 flex h-6 w-6 shrink-0 items-center justify-center rounded-full text-sm ${done ? "bg-ink text-ground" : now ? "border-2 border-ink" : "border border-rule"}`}>
        {done ? <Check size={14} aria-label="done" /> : n}
      </span>
      <span className="min-w-0 flex-1">
        <span className="font-medium">{title}</span>
        <span className="block text-sm text-faded">{say}</span>
      </span>
      {children}
    </li>
  );
}
