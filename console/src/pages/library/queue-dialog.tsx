import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";

import { ANY, api, type LibraryFile, type Part, value } from "../../api/client";
import { useChange, useMachines } from "../../api/queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { duration } from "../../ui/format";
import { Refusal } from "../../ui/page";

function takes({ file, part }: Wanted): string {
  if (file) return `One copy takes ${duration(file.reading.planned_s)} to build.`;
  const times = part?.files?.map((f) => f.reading.planned_s) ?? [];
  const span = [...new Set([Math.min(...times), Math.max(...times)].map(duration))].join(" to ");
  return `A machine that comes free takes the file that fits it: ${span} a build.`;
}

/** Queue copies of a file or part: how many, and what they need. What is left empty is any. */
export interface Wanted {
  name: string;
  /** Exactly one of them. */
  file?: LibraryFile;
  part?: Part;
}

export function QueueDialog({ wanted, close }: { wanted: Wanted; close: () => void }) {
  const { file, part } = wanted;
  const machines = useMachines().data ?? [];
  const tools = machines.flatMap((m) => m.tools);
  const [copies, setCopies] = useState(1);
  const [loaded, setLoaded] = useState("");
  const [nozzle, setNozzle] = useState("");
  const [machine, setMachine] = useState("");
  const [pinned, setPinned] = useState(false);
  const navigate = useNavigate();
  const submit = useChange(() => {
    const [material = "", colour = ""] = loaded.split("|");
    return value(
      api.POST("/api/jobs", {
        body: {
          file: file?.id ?? null,
          part: part?.id ?? null,
          revision: pinned ? (file?.revision ?? null) : null,
          copies,
          held: false,
          priority: 0,
          note: "",
          requirement: { ...ANY, material, colour, machine, nozzle_mm: nozzle ? Number(nozzle) : null } as never,
        },
      }),
    ).then(() => navigate("/queue"));
  }, "jobs");
  const materials = [...new Set(tools.flatMap((t) => (t.material ? [`${t.material}|`, `${t.material}|${t.colour}`] : [])))];
  const nozzles = [...new Set(tools.map((t) => t.nozzle_mm ?? 0.4))].sort();
  const send = (e: FormEvent) => {
    e.preventDefault();
    submit.mutate(undefined);
  };
  return (
    <Dialog open close={close} title={`Queue ${wanted.name}`} text={takes(wanted)}>
      <form onSubmit={send} className="flex flex-col gap-4">
        <Field label="Copies">
          <input
            className={inputLook}
            type="number"
            min={1}
            max={10000}
            autoFocus
            value={copies}
            onChange={(e) => setCopies(Number(e.target.value))}
          />
        </Field>
        <Field label="Material and colour">
          <select className={inputLook} value={loaded} onChange={(e) => setLoaded(e.target.value)}>
            <option value="">any</option>
            {materials.sort().map((m) => {
              const [material, colour] = m.split("|");
              return (
                <option key={m} value={m}>
                  {colour ? `${colour} ${material}` : `${material}, any colour`}
                </option>
              );
            })}
          </select>
        </Field>
        <div className="grid grid-cols-2 gap-4">
          <Field label="Nozzle">
            <select className={inputLook} value={nozzle} onChange={(e) => setNozzle(e.target.value)}>
              <option value="">any</option>
              {nozzles.map((n) => (
                <option key={n} value={n}>
                  {n} mm
                </option>
              ))}
            </select>
          </Field>
          <Field label="Machine">
            <select className={inputLook} value={machine} onChange={(e) => setMachine(e.target.value)}>
              <option value="">any that fits</option>
              {machines.map((m) => (
                <option key={m.name}>{m.name}</option>
              ))}
            </select>
          </Field>
        </div>
        {file && (
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" checked={pinned} onChange={(e) => setPinned(e.target.checked)} />
            Stay with revision {file.revision}; without this, waiting copies follow the newest
          </label>
        )}
        <Refusal error={submit.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={submit.isPending}>
            Queue {copies === 1 ? "1 copy" : `${copies} copies`}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
