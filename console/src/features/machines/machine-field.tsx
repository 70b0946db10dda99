import { useMachines } from "./queries";
import { Field, inputLook } from "../../ui/dialog";

/** One of the shop's machines. */
export function MachineField({ value, set }: { value: string; set: (name: string) => void }) {
  const machines = useMachines().data ?? [];
  return (
    <Field label="Machine">
      <select className={inputLook} value={value} onChange={(e) => set(e.target.value)}>
        {machines.map((m) => (
          <option key={m.name}>{m.name}</option>
        ))}
      </select>
    </Field>
  );
}
