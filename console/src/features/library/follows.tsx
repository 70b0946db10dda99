import { Field, inputLook } from "../../ui/dialog";
import { useMachines } from "../machines/queries";

/** What follows once a file was added. */
export interface Follows {
  then: "add" | "queue" | "now";
  copies: string;
  machine: string;
}

export const ONLY_ADDED: Follows = { then: "add", copies: "1", machine: "" };

/** As the service takes it. */
export const followsBody = (f: Follows) =>
  f.then === "add" ? {} : { queue: true, copies: f.then === "queue" ? Number(f.copies) || 1 : 1, ...(f.then === "now" ? { machine: f.machine, now: true } : {}) };

/** Machines on which something can begin now. */
export function useIdle(): string[] {
  return (useMachines().data ?? []).filter((m) => m.state === "idle" && m.reachable && !m.build).map((m) => m.name);
}

const WAYS: { then: Follows["then"]; name: string }[] = [
  { then: "add", name: "Only add" },
  { then: "queue", name: "Add and queue" },
  { then: "now", name: "Add and begin now" },
];

/** Chooses what follows. One file alone can begin now. */
export function FollowsFields({ value, set, one }: { value: Follows; set: (change: Partial<Follows>) => void; one: boolean }) {
  const idle = useIdle();
  const cannot = idle.length === 0 ? "No machine is idle." : one ? "" : "One file at a time.";
  return (
    <fieldset className="m-0 flex flex-col gap-2.5 border-0 p-0">
      <legend className="mb-1 p-0 text-sm font-medium">Then</legend>
      {WAYS.map(({ then, name }) => {
        const off = then === "now" && cannot !== "";
        return (
          <div key={then} className="flex min-h-9 flex-wrap items-center gap-x-3 gap-y-1.5">
            <label className={`flex items-center gap-2 ${off ? "text-faded" : ""}`}>
              <input
                type="radio"
                name="then"
                checked={value.then === then}
                disabled={off}
                onChange={() => set(then === "now" ? { then, machine: value.machine || (idle[0] ?? "") } : { then })}
              />
              {name}
            </label>
            {off && <span className="text-sm text-faded">{cannot}</span>}
            {then === "queue" && value.then === "queue" && (
              <Field label="Copies of each">
                <input className={`${inputLook} w-24`} type="number" min={1} max={10000} value={value.copies} onChange={(e) => set({ copies: e.target.value })} required />
              </Field>
            )}
            {then === "now" && value.then === "now" && (
              <Field label="On" hint="Its bed is clear, and what the file wants is loaded.">
                <select className={`${inputLook} w-44`} value={value.machine} required onChange={(e) => set({ machine: e.target.value })}>
                  {[...new Set([...idle, value.machine])].filter(Boolean).map((name) => (
                    <option key={name}>{name}</option>
                  ))}
                </select>
              </Field>
            )}
          </div>
        );
      })}
    </fieldset>
  );
}
