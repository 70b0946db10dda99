import { useState } from "react";

import type { components } from "../../api/schema";
import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { sentPicture } from "../../api/picture";
import { useMachines } from "../machines/queries";
import type { UpkeepTask } from "./queries";

type Blocks = components["schemas"]["Blocks"];

const BLOCKS: { value: Blocks; name: string }[] = [
  { value: "nothing", name: "only says so" },
  { value: "warns", name: "warns: people are told" },
  { value: "closes", name: "closes: the machine takes no work" },
];
const RULES = [
  { name: "hours", label: "Hours" },
  { name: "builds", label: "Builds" },
  { name: "metres", label: "Metres" },
  { name: "days", label: "Days" },
] as const;

const list = (text: string) =>
  text
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean);

/** Take away the pictures that are not kept, and add new ones. */
async function changePictures(task: UpkeepTask, kept: string[], added: File[]) {
  const path = { number: task.id };
  for (const key of task.pictures) if (!kept.includes(key)) await value(api.DELETE("/api/upkeep/tasks/{number}/pictures/{key}", { params: { path: { ...path, key } } }));
  for (const picture of added) await value(api.POST("/api/upkeep/tasks/{number}/pictures", sentPicture(path, picture)));
}

/** A task or a calibration check: new, or one to be changed. */
export function TaskDialog({ task, check = false, close }: { task?: UpkeepTask; check?: boolean; close: () => void }) {
  const machines = useMachines().data ?? [];
  const models = [...new Set(machines.map((m) => m.model))].sort();
  const [name, setName] = useState(task?.name ?? "");
  const [of, setOf] = useState(task?.machine ? `m ${task.machine}` : task?.model ? `k ${task.model}` : "");
  const [due, setDue] = useState<Record<string, string>>(Object.fromEntries(RULES.map((r) => [r.name, task?.due[r.name] ? String(task.due[r.name]) : ""])));
  const [faults, setFaults] = useState(task?.due.faults?.join(", ") ?? "");
  const [took, setTook] = useState(String(task?.minutes ?? 15));
  const [text, setText] = useState(task?.text ?? "");
  const [parts, setParts] = useState(task?.parts?.join(", ") ?? "");
  const [part, setPart] = useState(task?.part ?? "");
  const [blocks, setBlocks] = useState<Blocks>(task?.blocks ?? "nothing");
  const [measure, setMeasure] = useState({
    nominal: task?.check ? String(task.check.nominal) : "",
    tolerance: task?.check ? String(task.check.tolerance) : "",
    unit: task?.check?.unit ?? "mm",
    source: task?.check?.source ?? "hand",
  });
  const [pictures, setPictures] = useState(task?.pictures ?? []);
  const [added, setAdded] = useState<File[]>([]);
  const checks = check || Boolean(task?.check);
  const number = (said: string) => (said.trim() ? Number(said.replace(",", ".")) : null);
  const send = useChange(() => {
    const body = {
      name: name.trim(),
      machine: of.startsWith("m ") ? of.slice(2) : "",
      model: of.startsWith("k ") ? of.slice(2) : "",
      due: { ...Object.fromEntries(RULES.map((r) => [r.name, number(due[r.name] ?? "")])), faults: list(faults) },
      minutes: number(took) ?? 0,
      text,
      parts: list(parts),
      part: part.trim(),
      blocks,
      check: checks ? { nominal: number(measure.nominal) ?? 0, tolerance: number(measure.tolerance) ?? 0, unit: measure.unit, source: measure.source } : null,
    };
    const sent = task ? value(api.PUT("/api/upkeep/tasks/{number}", { params: { path: { number: task.id } }, body })) : value(api.POST("/api/upkeep/tasks", { body }));
    return sent.then((kept) => changePictures(kept, pictures, added)).then(close);
  }, "upkeep");
  const what = checks ? "check" : "task";
  return (
    <FormDialog
      title={task ? `Change ${task.name}` : `Add a ${what}`}
      text="Due after whichever comes first. Where it was never done it counts from now."
      close={close}
      send={() => send.mutate(undefined)}
      asked={send.isPending}
      error={send.error}
      action={task ? "Keep it" : "Add it"}
    >
      <div className="grid grid-cols-2 gap-3">
        <Field label={checks ? "What is measured" : "What is done"}>
          <input className={inputLook} required maxLength={60} autoFocus value={name} onChange={(e) => setName(e.target.value)} placeholder={checks ? "cube, X" : "clean the nozzle"} />
        </Field>
        <Field label="At">
          <select className={inputLook} value={of} onChange={(e) => setOf(e.target.value)}>
            <option value="">all machines</option>
            {models.map((one) => (
              <option key={one} value={`k ${one}`}>
                all {one}
              </option>
            ))}
            {machines.map((one) => (
              <option key={one.name} value={`m ${one.name}`}>
                {one.name}
              </option>
            ))}
          </select>
        </Field>
      </div>
      {checks && (
        <div className="grid grid-cols-4 gap-3">
          <Field label="Should be">
            <input className={inputLook} required inputMode="decimal" value={measure.nominal} onChange={(e) => setMeasure({ ...measure, nominal: e.target.value })} />
          </Field>
          <Field label="±">
            <input className={inputLook} required inputMode="decimal" value={measure.tolerance} onChange={(e) => setMeasure({ ...measure, tolerance: e.target.value })} />
          </Field>
          <Field label="Unit">
            <input className={inputLook} maxLength={20} value={measure.unit} onChange={(e) => setMeasure({ ...measure, unit: e.target.value })} />
          </Field>
          <Field label="Measured by">
            <select className={inputLook} value={measure.source} onChange={(e) => setMeasure({ ...measure, source: e.target.value as "hand" })}>
              <option value="hand">hand</option>
              <option value="level map">its level maps</option>
              <option value="heating">how it heats</option>
            </select>
          </Field>
        </div>
      )}
      <div className="grid grid-cols-4 gap-3">
        {RULES.map((r) => (
          <Field key={r.name} label={r.label}>
            <input className={inputLook} inputMode="decimal" value={due[r.name]} onChange={(e) => setDue({ ...due, [r.name]: e.target.value })} />
          </Field>
        ))}
      </div>
      <Field label="Or after a fault with one of these words" hint="with commas between">
        <input className={inputLook} value={faults} onChange={(e) => setFaults(e.target.value)} placeholder="thermal, clogged" />
      </Field>
      <Field label="What to do">
        <textarea className={`${inputLook} min-h-24 py-2`} maxLength={8000} value={text} onChange={(e) => setText(e.target.value)} />
      </Field>
      <div className="flex flex-wrap items-end gap-3">
        {pictures.map((key) => (
          <span key={key} className="relative">
            <img src={`/api/upkeep/tasks/${task!.id}/pictures/${key}`} alt="What to do" className="h-16 rounded-md" />
            <button type="button" className="absolute -top-2 -right-2 rounded-full border border-rule bg-sheet px-1.5 text-sm" aria-label="Take the picture away" onClick={() => setPictures(pictures.filter((one) => one !== key))}>
              ×
            </button>
          </span>
        ))}
        <Field label="Pictures that show it">
          <input type="file" accept="image/jpeg,image/png" multiple className="text-sm" onChange={(e) => setAdded([...(e.target.files ?? [])])} />
        </Field>
      </div>
      <div className="grid grid-cols-2 gap-3">
        <Field label="Needs" hint="with commas between">
          <input className={inputLook} value={parts} onChange={(e) => setParts(e.target.value)} />
        </Field>
        {!checks && (
          <Field label="Replaces the wear part" hint="its life is learned then">
            <input className={inputLook} maxLength={60} value={part} onChange={(e) => setPart(e.target.value)} placeholder="nozzle" />
          </Field>
        )}
        <Field label="Takes, min">
          <input className={inputLook} inputMode="decimal" value={took} onChange={(e) => setTook(e.target.value)} />
        </Field>
        <Field label={checks ? "When due or out of tolerance" : "When due"}>
          <select className={inputLook} value={blocks} onChange={(e) => setBlocks(e.target.value as Blocks)}>
            {BLOCKS.map((one) => (
              <option key={one.value} value={one.value}>
                {one.name}
              </option>
            ))}
          </select>
        </Field>
      </div>
    </FormDialog>
  );
}
