import { useState } from "react";

import { api, type BackupSettings, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Field, FormDialog, inputLook } from "../../ui/dialog";

export const WEEKDAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const KEPT = [
  ["daily", "Of days"],
  ["weekly", "Of weeks"],
  ["monthly", "Of months"],
] as const;

/** When backups are taken and tried, and how many are kept. */
export function BackupRuleDialog({ now, zone, close }: { now: BackupSettings; zone: string; close: () => void }) {
  const [rule, setRule] = useState({
    on: now.on ?? true, at: now.at?.slice(0, 5) ?? "02:30", try_on: now.try_on ?? 6,
    daily: now.daily ?? 7, weekly: now.weekly ?? 4, monthly: now.monthly ?? 12,
  });
  const change = useChange(() => value(api.PATCH("/api/backup-settings", { body: { ...rule, at: `${rule.at}:00` } })).then(close), "backups");
  return (
    <FormDialog title="When backups are taken" close={close} send={() => change.mutate(undefined)} asked={change.isPending} error={change.error} action="Set">
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={rule.on} onChange={(e) => setRule({ ...rule, on: e.target.checked })} />
        One is taken each day by itself
      </label>
      <div className="grid grid-cols-2 gap-3">
        <Field label="At" hint={`In the shop's zone, ${zone}`}>
          <input type="time" className={inputLook} value={rule.at} disabled={!rule.on} required onChange={(e) => setRule({ ...rule, at: e.target.value })} />
        </Field>
        {now.sealed_with === "passphrase" && (
          <Field label="The newest is tried on" hint="A backup that was not tried is none.">
            <select className={inputLook} value={rule.try_on} onChange={(e) => setRule({ ...rule, try_on: Number(e.target.value) })}>
              {WEEKDAYS.map((name, n) => (
                <option key={name} value={n}>
                  {name}
                </option>
              ))}
            </select>
          </Field>
        )}
      </div>
      <div className="grid grid-cols-3 gap-3">
        {KEPT.map(([name, label]) => (
          <Field key={name} label={label}>
            <input type="number" min={0} max={1000} required className={inputLook} value={rule[name]} onChange={(e) => setRule({ ...rule, [name]: Number(e.target.value) })} />
          </Field>
        ))}
      </div>
      <p className="m-0 text-sm text-faded">The newest backup of each of so many days, weeks and months is kept, the others are removed.</p>
    </FormDialog>
  );
}
