import { useState } from "react";

import { api, type Machine, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Loading } from "../../ui/page";
import { useMachine, useModels } from "./queries";

/** How a machine is reached, of which model it is, and where it stands. */
export function ChangeDialog({ machine, close }: { machine: Machine; close: () => void }) {
  const detail = useMachine(machine.name).data;
  return detail ? (
    <Fields machine={detail} close={close} />
  ) : (
    <FormDialog title={machine.name} close={close} send={close} asked={false} error={null} action="Change it">
      <Loading rows={3} />
    </FormDialog>
  );
}

function Fields({ machine: m, close }: { machine: MachineDetail; close: () => void }) {
  const models = useModels().data ?? [];
  const [now, setNow] = useState({ link: m.link, model: m.model, site: m.site, place: m.place });
  const [first] = useState(now);
  const set = (change: Partial<typeof now>) => setNow((before) => ({ ...before, ...change }));
  const change = useChange(async () => {
    const fields = Object.keys(now) as (keyof typeof now)[];
    const body = Object.fromEntries(fields.filter((field) => now[field] !== first[field]).map((field) => [field, now[field].trim()]));
    await value(api.PATCH("/api/machines/{name}", { params: { path: { name: m.name } }, body }));
    close();
  }, "machines", "machine", "plan");
  const held = !!m.build;
  return (
    <FormDialog title={m.name} text={held ? "A build is on it: it gets another address or model once its bed is clear." : "Builds and records of it stay with it."} close={close} send={() => change.mutate(undefined)} asked={change.isPending} error={change.error} action="Change it">
      <Field label="Address">
        <input className={`${inputLook} font-mono text-sm`} value={now.link} disabled={held} onChange={(e) => set({ link: e.target.value })} required maxLength={300} spellCheck={false} autoComplete="off" />
      </Field>
      <Field label="Model">
        <select className={inputLook} value={now.model} disabled={held} onChange={(e) => set({ model: e.target.value })}>
          {[...new Set([now.model, ...models.map((one) => one.name)])].map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </Field>
      <div className="grid grid-cols-2 gap-3">
        <Field label="Site">
          <input className={inputLook} value={now.site} onChange={(e) => set({ site: e.target.value })} maxLength={60} />
        </Field>
        <Field label="Place">
          <input className={inputLook} value={now.place} onChange={(e) => set({ place: e.target.value })} maxLength={40} />
        </Field>
      </div>
    </FormDialog>
  );
}
