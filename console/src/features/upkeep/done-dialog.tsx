import { useState } from "react";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { sentPicture } from "../../api/picture";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { type DueTask, useUpkeepTasks } from "./queries";

/** What was done, or measured: with a note, the parts that were used, and a photo. */
export function DoneDialog({ machine, due, close }: { machine: string; due: Pick<DueTask, "task" | "name" | "check" | "part" | "minutes">; close: () => void }) {
  const task = (useUpkeepTasks().data ?? []).find((t) => t.id === due.task);
  const [measured, setMeasured] = useState("");
  const [note, setNote] = useState("");
  const [took, setTook] = useState(String(due.minutes));
  const [used, setUsed] = useState<string[]>([]);
  const [worn, setWorn] = useState(true);
  const [photo, setPhoto] = useState<File | null>(null);
  const send = useChange(
    async () => {
      const done = await value(
        api.POST("/api/upkeep/done", {
          body: { machine, task: due.task, name: "", part: "", note, parts: used, minutes: took ? Number(took) : null, worn, value: due.check ? Number(measured.replace(",", ".")) : null },
        }),
      );
      if (photo)
        await value(api.PUT("/api/upkeep/done/{number}/photo", sentPicture({ number: done.id }, photo)));
      close();
    },
    "upkeep",
    "setup",
    "plan",
    "jobs",
    "machine",
  );
  const check = task?.check;
  return (
    <FormDialog title={`${machine}: ${due.name}`} close={close} send={() => send.mutate(undefined)} asked={send.isPending} error={send.error} action={due.check ? "Measured" : "Done"}>
      {task?.text && <p className="m-0 max-h-48 overflow-auto rounded-md bg-sunk px-3 py-2 text-sm whitespace-pre-line">{task.text}</p>}
      {(task?.pictures.length ?? 0) > 0 && (
        <div className="flex gap-2 overflow-x-auto">
          {task!.pictures.map((key) => (
            <a key={key} href={`/api/upkeep/tasks/${task!.id}/pictures/${key}`} target="_blank" rel="noreferrer">
              <img src={`/api/upkeep/tasks/${task!.id}/pictures/${key}`} alt="What to do" className="h-24 rounded-md" />
            </a>
          ))}
        </div>
      )}
      {due.check && (
        <Field label={`Measured${check?.unit ? `, ${check.unit}` : ""}`} hint={check ? `${check.nominal} ± ${check.tolerance} ${check.unit} is right` : undefined}>
          <input className={inputLook} inputMode="decimal" required autoFocus value={measured} onChange={(e) => setMeasured(e.target.value)} />
        </Field>
      )}
      {(task?.parts?.length ?? 0) > 0 && (
        <fieldset className="m-0 flex flex-wrap gap-x-4 gap-y-1 border-0 p-0">
          <legend className="mb-1 p-0 text-sm font-medium">Used</legend>
          {task!.parts!.map((part) => (
            <label key={part} className="flex items-center gap-2">
              <input type="checkbox" checked={used.includes(part)} onChange={(e) => setUsed(e.target.checked ? [...used, part] : used.filter((one) => one !== part))} />
              {part}
            </label>
          ))}
        </fieldset>
      )}
      {due.part && (
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={worn} onChange={(e) => setWorn(e.target.checked)} /> the old {due.part} was worn out
        </label>
      )}
      <Field label="Note">
        <textarea className={`${inputLook} min-h-20 py-2`} maxLength={2000} value={note} onChange={(e) => setNote(e.target.value)} placeholder="What you found" />
      </Field>
      <div className="grid grid-cols-2 gap-3">
        <Field label="Took, min">
          <input className={inputLook} inputMode="decimal" value={took} onChange={(e) => setTook(e.target.value)} />
        </Field>
        <Field label="Photo">
          <input type="file" accept="image/jpeg,image/png" capture="environment" className="text-sm" onChange={(e) => setPhoto(e.target.files?.[0] ?? null)} />
        </Field>
      </div>
    </FormDialog>
  );
}
