import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";

import { api, type LibraryFile, value } from "../../api/client";
import { useChange, useMachines } from "../../api/queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { duration } from "../../ui/format";
import { Refusal } from "../../ui/page";

/** Queue copies of a file: how many, and what they need. What is left empty is any. */
export function QueueDialog({ file, close }: { file: LibraryFile; close: () => void }) {
  const machines = useMachines().data ?? [];
  const tools = machines.flatMap((m) => m.tools);
  const [copies, setCopies] = useState(1);
  const [loaded, setLoaded] = useState("");
  const [nozzle, setNozzle] = useState("");
  const [machine, setMachine] = useState("");
  const navigate = useNavigate();
  const submit = useChange(() => {
    const [material = "", colour = ""] = loaded.split("|");
    return value(
      api.POST("/api/jobs", {
        body: {
          file: file.id,
          copies,
          held: false,
          requirement: { material, colour, machine, nozzle_mm: nozzle ? Number(nozzle) : null, hardened: false, model: "" },
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
    <Dialog open close={close} title={`Queue ${file.name}`} text={`One copy takes ${duration(file.reading.planned_s)}.`}>
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
