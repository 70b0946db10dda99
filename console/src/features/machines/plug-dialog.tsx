import { useState } from "react";

import { api, type Plug, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";
import { useMachines } from "./queries";
import { usePlugProfiles, usePlugs } from "./power-queries";

const RULES: { key: "off_after_min" | "start_up_s" | "cool_c" | "run_on_s"; label: string; hint: string; least: number; most: number }[] = [
  { key: "off_after_min", label: "Off by itself after, min", hint: "0: never. After the last work, and when it is cool.", least: 0, most: 1440 },
  { key: "start_up_s", label: "Takes to start, s", hint: "So long before its next build it goes on.", least: 0, most: 1800 },
  { key: "cool_c", label: "Never off above, °C", hint: "Nozzle or bed.", least: 25, most: 200 },
  { key: "run_on_s", label: "Fan runs on, s", hint: "Before it is turned off.", least: 0, most: 1800 },
];
const USUAL = { cool_c: 50, run_on_s: 0, off_after_min: 0, ahead: true, start_up_s: 60 };

/** The plug of a machine: where it is, how it is asked, and when it is turned. */
export function PlugDialog({ plug, close }: { plug?: Plug; close: () => void }) {
  const profiles = usePlugProfiles().data ?? [];
  const taken = new Set((usePlugs().data ?? []).map((p) => p.machine));
  const free = (useMachines().data ?? []).map((m) => m.name).filter((name) => !taken.has(name));
  const [machine, setMachine] = useState(plug?.machine ?? "");
  const [profile, setProfile] = useState(plug?.profile ?? "");
  const [address, setAddress] = useState(plug?.address ?? "");
  const [login, setLogin] = useState(plug?.login ?? "");
  const [password, setPassword] = useState("");
  const [rules, setRules] = useState(plug?.rules ?? USUAL);
  const path = { path: { machine: plug?.machine ?? "" } };
  const kind = profiles.find((p) => p.name === profile)?.kind;
  const save = useChange(
    () =>
      (plug
        ? value(api.PATCH("/api/plugs/{machine}", { params: path, body: { profile, address, login, rules, ...(password ? { password } : {}) } }))
        : value(api.POST("/api/plugs", { body: { machine, profile, address, login, password, rules } }))
      ).then(close),
    "plugs",
    "machine",
  );
  const remove = useChange(() => value(api.DELETE("/api/plugs/{machine}", { params: path })).then(close), "plugs", "machine");
  return (
    <Dialog open close={close} wide title={plug ? `The plug of ${plug.machine}` : "A machine on a plug"}>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(undefined);
        }}
      >
        <div className="grid gap-4 sm:grid-cols-2">
          {!plug && (
            <Field label="Machine">
              <select required className={inputLook} value={machine} onChange={(e) => setMachine(e.target.value)}>
                <option value="">choose one</option>
                {free.map((name) => (
                  <option key={name}>{name}</option>
                ))}
              </select>
            </Field>
          )}
          <Field label="Profile" hint={profiles.length ? undefined : "There is none yet: chronarch plugs profile FILE adds one."}>
            <select required className={inputLook} value={profile} onChange={(e) => setProfile(e.target.value)}>
              <option value="">choose one</option>
              {profiles.map((p) => (
                <option key={p.name}>{p.name}</option>
              ))}
            </select>
          </Field>
          <Field label="Address">
            <input required className={inputLook} placeholder={kind === "mqtt" ? "mqtt://BROKER/DEVICE" : "http://HOST/DEVICE"} value={address} onChange={(e) => setAddress(e.target.value)} />
          </Field>
          <Field label="Login">
            <input autoComplete="off" className={inputLook} value={login} onChange={(e) => setLogin(e.target.value)} />
          </Field>
          <Field label="Password">
            <input type="password" autoComplete="new-password" className={inputLook} placeholder={plug?.has_password ? "kept" : ""} value={password} onChange={(e) => setPassword(e.target.value)} />
          </Field>
        </div>
        <div className="grid gap-4 border-t border-rule pt-4 sm:grid-cols-2">
          {RULES.map((rule) => (
            <Field key={rule.key} label={rule.label} hint={rule.hint}>
              <input
                className={inputLook}
                type="number"
                required
                min={rule.least}
                max={rule.most}
                step="any"
                value={Number.isNaN(rules[rule.key]) ? "" : String(rules[rule.key])}
                onChange={(e) => setRules({ ...rules, [rule.key]: e.target.valueAsNumber })}
              />
            </Field>
          ))}
          <label className="flex items-center gap-2 text-sm sm:col-span-2">
            <input type="checkbox" checked={rules.ahead} onChange={(e) => setRules({ ...rules, ahead: e.target.checked })} />
            On by itself before the plan&rsquo;s next build, after it went off by itself
          </label>
        </div>
        <Refusal error={save.error ?? remove.error} />
        <div className="flex justify-end gap-2">
          {plug && (
            <Button kind="danger" className="mr-auto" asked={remove.isPending} onClick={() => remove.mutate(undefined)}>
              It hangs on no plug
            </Button>
          )}
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={save.isPending}>
            {plug ? "Set" : "Add"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
