import { useState } from "react";

import { api, type Spool, type SpoolUpdate, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useMachines, useSpools } from "./queries";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { MachineField } from "./machine-field";

/** Every spool with what is left on it: add, weigh, load. */
export function Spools() {
  const spools = useSpools();
  const [adding, setAdding] = useState(false);
  const [weighing, setWeighing] = useState<Spool | null>(null);
  const [loading, setLoading] = useState<Spool | null>(null);
  const rows = spools.data ?? [];
  return (
    <Sheet className="min-w-0">
      <SheetTitle
        beside={
          <button type="button" className="text-ink underline" onClick={() => setAdding(true)}>
            Add a spool
          </button>
        }
      >
        Spools
      </SheetTitle>
      {spools.error ? (
        <Failed error={spools.error} again={() => spools.refetch()} />
      ) : spools.isPending ? (
        <Loading rows={6} height="h-11" />
      ) : rows.length === 0 ? (
        <Empty title="No spool is counted">Add the reels you have, and a build that would run out is seen before it starts.</Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
          {rows.map((s) => (
            <li key={s.id} className="grid grid-cols-[1fr_5rem_auto] items-center gap-x-4 px-5 py-1.5">
              <span className="min-w-0">
                {s.colour} {s.material} <span className="text-sm text-faded max-sm:block">spool {s.id} · {s.machine ? `on ${s.machine}` : s.place || "on the shelf"}</span>
              </span>
              <span className={`text-right ${s.grams_left < 100 ? "font-semibold text-alarm" : ""}`}>{s.grams_left.toFixed(0)} g</span>
              <span className="flex">
                <Button needs="operate" kind="quiet" onClick={() => setWeighing(s)}>
                  Weigh
                </Button>
                <Button needs="operate" kind="quiet" onClick={() => setLoading(s)}>
                  Load
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {adding && <AddSpool close={() => setAdding(false)} />}
      {weighing && <Weigh spool={weighing} close={() => setWeighing(null)} />}
      {loading && <LoadOn spool={loading} close={() => setLoading(null)} />}
    </Sheet>
  );
}

function AddSpool({ close }: { close: () => void }) {
  const [material, setMaterial] = useState("PLA");
  const [colour, setColour] = useState("");
  const [grams, setGrams] = useState(1000);
  const [place, setPlace] = useState("");
  const add = useChange(
    () => value(api.POST("/api/spools", { body: { material, colour, grams_full: grams, place } })).then(close),
    "setup",
    "plan",
  );
  return (
    <FormDialog title="Add a spool" close={close} send={() => add.mutate(undefined)} asked={add.isPending} error={add.error} action="Add it">
      <div className="grid grid-cols-2 gap-3">
        <Field label="Material">
          <input className={inputLook} autoFocus value={material} onChange={(e) => setMaterial(e.target.value)} />
        </Field>
        <Field label="Colour">
          <input className={inputLook} value={colour} onChange={(e) => setColour(e.target.value)} />
        </Field>
        <Field label="Grams">
          <input className={inputLook} type="number" min={1} value={grams} onChange={(e) => setGrams(Number(e.target.value))} />
        </Field>
        <Field label="Where it lies">
          <input className={inputLook} value={place} onChange={(e) => setPlace(e.target.value)} />
        </Field>
      </div>
    </FormDialog>
  );
}

function Weigh({ spool: s, close }: { spool: Spool; close: () => void }) {
  const [grams, setGrams] = useState(Math.round(s.grams_left));
  const change = useChange(
    (body: SpoolUpdate) => value(api.PATCH("/api/spools/{number}", { params: { path: { number: s.id } }, body })).then(close),
    "setup",
    "plan",
    "jobs",
  );
  return (
    <FormDialog
      title={`Weigh spool ${s.id}`}
      text={`${s.colour} ${s.material}; counted down to ${s.grams_left.toFixed(0)} g.`}
      close={close}
      send={() => change.mutate({ grams_left: grams })}
      asked={change.isPending}
      error={change.error}
      action="That is left"
    >
      <Field label="Grams, without the reel">
        <input className={inputLook} type="number" min={0} autoFocus value={grams} onChange={(e) => setGrams(Number(e.target.value))} />
      </Field>
      <Button kind="quiet" className="-ml-3 self-start" onClick={() => change.mutate({ finished: true })}>
        It is empty: off the list
      </Button>
    </FormDialog>
  );
}

function LoadOn({ spool: s, close }: { spool: Spool; close: () => void }) {
  const machines = useMachines().data ?? [];
  const [machine, setMachine] = useState(machines[0]?.name ?? "");
  const tools = machines.find((m) => m.name === machine)?.tools ?? [];
  const [tool, setTool] = useState(0);
  const load = useChange(
    () => value(api.POST("/api/spools/{number}/load", { params: { path: { number: s.id } }, body: { machine, tool } })).then(close),
    "setup",
    "plan",
    "jobs",
  );
  return (
    <FormDialog
      title={`Load ${s.colour} ${s.material}`}
      text="What was on the machine goes back to the shelf."
      close={close}
      send={() => load.mutate(undefined)}
      asked={load.isPending}
      error={load.error}
      action="It is loaded"
    >
      <MachineField
        value={machine}
        set={(name) => {
          setMachine(name);
          setTool(0);
        }}
      />
      {tools.length > 1 && (
        <Field label="Tool">
          <select className={inputLook} value={tool} onChange={(e) => setTool(Number(e.target.value))}>
            {tools.map((t) => (
              <option key={t.number} value={t.number}>
                {t.number}: {[t.colour, t.material].filter(Boolean).join(" ") || "nothing"}
              </option>
            ))}
          </select>
        </Field>
      )}
    </FormDialog>
  );
}
