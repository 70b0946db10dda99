import { ArrowDown, ArrowLeft, ArrowRight, ArrowUp, House, Lock } from "lucide-react";
import { type ReactNode, useState } from "react";

import type { MachineDetail } from "../../api/client";
import { Button } from "../../ui/button";
import { FormDialog, Field, inputLook } from "../../ui/dialog";
import { degrees } from "../../ui/format";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Setting } from "../../ui/setting";
import { type Action, useAct } from "./act";

const STEPS = [0.1, 1, 10, 50];
const LENGTHS = [5, 20, 50];
type Sequence = NonNullable<MachineDetail["model_detail"]["sequences"]>[number];

/** What hands may do while no build runs: move, heat, feed, switch, run a sequence. */
export function Free({ machine: m }: { machine: MachineDetail }) {
  const run = useAct(m.name, "level");
  const [doing, setDoing] = useState("");
  const [step, setStep] = useState(10);
  const [length, setLength] = useState(20);
  const [asking, setAsking] = useState<Sequence | null>(null);
  const locked = !m.reachable || m.state === "down" || m.state === "offline";
  const go = (name: string, action: Action) => {
    setDoing(name);
    run.mutate(action);
  };
  const asked = (name: string) => run.isPending && doing === name;
  const model = m.model_detail;
  const { nozzle, bed } = m.reading ?? {};
  const cold = (nozzle?.measured_c ?? 0) < (model.cold_extrusion_c ?? 165);
  const at = m.hands?.position_mm;
  const jog = (axis: "x" | "y" | "z", sign: 1 | -1, icon: ReactNode, word: string) => (
    <button
      type="button"
      aria-label={`Move ${word} by ${step} mm`}
      disabled={locked || run.isPending}
      onClick={() => go(`${axis}${sign}`, { kind: "move", x: 0, y: 0, z: 0, [axis]: sign * step } as Action)}
      className={`flex h-11 w-11 items-center justify-center rounded-md border border-rule hover:bg-sunk disabled:opacity-40 ${asked(`${axis}${sign}`) ? "bg-sunk" : ""}`}
    >
      {icon}
    </button>
  );
  const heat = (key: "nozzle_c" | "bed_c") => (value: number) => go(key, { kind: "adjust", [key]: value } as Action);
  const materials = [...new Set(m.tools.map((t) => t.material).filter((x): x is string => !!x)), "PLA", "PETG", "ABS"];
  return (
    <Sheet>
      <SheetTitle
        beside={at ? `x ${at[0]!.toFixed(1)} · y ${at[1]!.toFixed(1)} · z ${at[2]!.toFixed(1)} mm` : "not homed"}
      >
        By hand
      </SheetTitle>
      <div className="flex flex-col gap-5 px-5 pb-5">
        {locked && (
          <p className="m-0 flex items-center gap-2 text-faded">
            <Lock size={15} aria-hidden /> {m.state === "down" ? "The machine is down: see to it and put it back first." : "The machine cannot be reached."}
          </p>
        )}
        <div className="flex flex-wrap gap-x-8 gap-y-5">
          <div>
            <Choice label="Step" options={STEPS} unit="mm" value={step} set={setStep} />
            <div className="mt-2.5 flex gap-6">
              <div className="grid grid-cols-3 gap-1.5" role="group" aria-label="Move x and y">
                <span />
                {jog("y", 1, <ArrowUp size={18} />, "back")}
                <span />
                {jog("x", -1, <ArrowLeft size={18} />, "left")}
                <button
                  type="button"
                  aria-label="Home all axes"
                  disabled={locked || run.isPending}
                  onClick={() => go("home", { kind: "home", axes: m.build ? "xy" : "" })}
                  className={`flex h-11 w-11 items-center justify-center rounded-md border border-ink hover:bg-sunk disabled:opacity-40 ${asked("home") ? "bg-sunk" : ""}`}
                >
                  <House size={18} />
                </button>
                {jog("x", 1, <ArrowRight size={18} />, "right")}
                <span />
                {jog("y", -1, <ArrowDown size={18} />, "to the front")}
                <span />
              </div>
              <div className="flex flex-col items-center gap-1.5" role="group" aria-label="Move z">
                {jog("z", 1, <ArrowUp size={18} />, "up")}
                <span className="flex h-11 items-center text-sm text-faded">z</span>
                {jog("z", -1, <ArrowDown size={18} />, "down")}
              </div>
            </div>
            <div className="mt-2.5 flex flex-wrap gap-1.5">
              {["x", "y", "z"].map((axis) => (
                <Button key={axis} disabled={locked} asked={asked(`home ${axis}`)} onClick={() => go(`home ${axis}`, { kind: "home", axes: axis })}>
                  Home {axis}
                </Button>
              ))}
              <Button disabled={locked} asked={asked("motors")} onClick={() => go("motors", { kind: "motors-off" })}>
                Motors off
              </Button>
            </div>
          </div>
          <div className="min-w-60 flex-1">
            <Choice label="Filament" options={LENGTHS} unit="mm" value={length} set={setLength} />
            <div className="mt-2.5 flex gap-1.5">
              <Button disabled={locked || cold} asked={asked("pull")} onClick={() => go("pull", { kind: "feed", mm: -length })}>
                Pull back
              </Button>
              <Button disabled={locked || cold} asked={asked("push")} onClick={() => go("push", { kind: "feed", mm: length })}>
                Push
              </Button>
            </div>
            {cold && (
              <p className="mt-1.5 mb-0 text-sm text-faded">
                The nozzle is {degrees(nozzle?.measured_c)}; filament moves from {degrees(model.cold_extrusion_c)} on.
              </p>
            )}
            <h3 className="mt-4 mb-1.5 text-sm font-medium">Switches</h3>
            <div className="flex flex-col gap-1.5">
              {(model.switches ?? []).map((w) => (
                <span key={w.name} className="flex items-center gap-1.5">
                  <span className="w-24 text-sm">{w.name}</span>
                  <Button disabled={locked} asked={asked(`${w.name} on`)} onClick={() => go(`${w.name} on`, { kind: "switch", name: w.name, on: true })}>
                    On
                  </Button>
                  <Button disabled={locked} asked={asked(`${w.name} off`)} onClick={() => go(`${w.name} off`, { kind: "switch", name: w.name, on: false })}>
                    Off
                  </Button>
                </span>
              ))}
              {!model.switches?.length && <span className="text-sm text-faded">The model names none.</span>}
            </div>
          </div>
        </div>
        <div>
          <Setting label="Nozzle" unit="°C" note={`now ${degrees(nozzle?.measured_c)}`} set={nozzle?.asked_c ?? 0} least={0} most={model.nozzle_ceiling_c ?? 275} step={5} asked={asked("nozzle_c") ? ((run.variables as { nozzle_c?: number }).nozzle_c ?? null) : null} apply={heat("nozzle_c")} />
          <Setting label="Bed" unit="°C" note={`now ${degrees(bed?.measured_c)}`} set={bed?.asked_c ?? 0} least={0} most={model.bed_ceiling_c ?? 110} step={5} asked={asked("bed_c") ? ((run.variables as { bed_c?: number }).bed_c ?? null) : null} apply={heat("bed_c")} />
          <div className="mt-3 flex flex-wrap items-center gap-1.5">
            <span className="mr-1 text-sm font-medium">Heat for</span>
            {[...new Set(materials)].map((material) => (
              <Button key={material} disabled={locked} asked={asked(material)} onClick={() => go(material, { kind: "preset", material })}>
                {material}
              </Button>
            ))}
            <Button disabled={locked} asked={asked("off")} onClick={() => go("off", { kind: "preset", material: "" })}>
              All off
            </Button>
          </div>
        </div>
        {!!model.sequences?.length && (
          <div className="flex flex-wrap items-center gap-1.5">
            <span className="mr-1 text-sm font-medium">Sequences</span>
            {model.sequences.map((q) => (
              <Button
                key={q.name}
                disabled={locked}
                asked={asked(q.name)}
                onClick={() => (q.parameters?.length ? setAsking(q) : go(q.name, { kind: "run", sequence: q.name, values: {} }))}
              >
                {q.guarded && <Lock size={13} aria-label="needs the right to send lines" />} {q.name}
                {q.parameters?.length ? "…" : ""}
              </Button>
            ))}
          </div>
        )}
        <Refusal error={run.error} />
      </div>
      {asking && <SequenceDialog machine={m.name} sequence={asking} close={() => setAsking(null)} />}
    </Sheet>
  );
}

function Choice({ label, options, unit, value, set }: { label: string; options: number[]; unit: string; value: number; set: (n: number) => void }) {
  return (
    <div className="flex items-center gap-2" role="group" aria-label={label}>
      <span className="text-sm font-medium">{label}</span>
      <span className="flex rounded-md border border-rule">
        {options.map((n) => (
          <button
            key={n}
            type="button"
            aria-pressed={n === value}
            onClick={() => set(n)}
            className={`px-2.5 py-1 text-sm first:rounded-l-md last:rounded-r-md ${n === value ? "bg-ink text-ground" : "hover:bg-sunk"}`}
          >
            {n}
          </button>
        ))}
      </span>
      <span className="text-sm text-faded">{unit}</span>
    </div>
  );
}

/** A sequence asks for its values before it runs. */
function SequenceDialog({ machine, sequence: q, close }: { machine: string; sequence: Sequence; close: () => void }) {
  const [values, setValues] = useState<Record<string, string>>(
    Object.fromEntries((q.parameters ?? []).map((p) => [p.name, String(p.usual)])),
  );
  const run = useAct(machine, "level");
  return (
    <FormDialog
      title={`${machine}: ${q.name}`}
      text={q.clear_bed === false ? undefined : "The bed must be clear."}
      close={close}
      send={() =>
        run.mutate(
          { kind: "run", sequence: q.name, values: Object.fromEntries(Object.entries(values).map(([k, v]) => [k, Number(v)])) },
          { onSuccess: close },
        )
      }
      asked={run.isPending}
      error={run.error}
      action="Run"
    >
      {(q.parameters ?? []).map((p) => (
        <Field key={p.name} label={p.name} hint={`${p.least} to ${p.most} ${p.unit ?? ""}`}>
          <input
            className={inputLook}
            inputMode="decimal"
            value={values[p.name]}
            onChange={(e) => setValues({ ...values, [p.name]: e.target.value })}
          />
        </Field>
      ))}
    </FormDialog>
  );
}
