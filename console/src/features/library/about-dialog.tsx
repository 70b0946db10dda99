import { useState } from "react";

import { api, type LibraryFile, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useEveryPart, useFolders } from "./queries";
import { Field, FormDialog, inputLook } from "../../ui/dialog";

/** Name, folder, part, tags and notes. */
export function AboutDialog({ file, close }: { file: LibraryFile; close: () => void }) {
  const folders = useFolders().data ?? [];
  const parts = useEveryPart().data ?? [];
  const [name, setName] = useState(file.name);
  const [folder, setFolder] = useState(file.folder ?? "");
  const [part, setPart] = useState(String(file.part_id ?? 0));
  const [tags, setTags] = useState((file.tags ?? []).join(", "));
  const [notes, setNotes] = useState(file.notes ?? "");
  const save = useChange(
    () =>
      value(
        api.PATCH("/api/files/{which}", {
          params: { path: { which: String(file.id) } },
          body: { name, folder, notes, part: Number(part), tags: tags.split(",").map((t) => t.trim()).filter(Boolean) },
        }),
      ).then(close),
    "files",
    "parts",
    "jobs",
  );
  return (
    <FormDialog
      title={`About ${file.name}`}
      close={close}
      send={() => save.mutate(undefined)}
      asked={save.isPending}
      error={save.error}
      action="Save"
    >
      <Field label="Name">
        <input className={inputLook} required value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
      <div className="grid grid-cols-2 gap-4">
        <Field label="Folder">
          <select className={inputLook} value={folder} onChange={(e) => setFolder(e.target.value)}>
            <option value="">the library itself</option>
            {folders.map((x) => (
              <option key={x.path}>{x.path}</option>
            ))}
          </select>
        </Field>
        <Field label="Makes the part">
          <select className={inputLook} value={part} onChange={(e) => setPart(e.target.value)}>
            <option value="0">none</option>
            {parts.map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
          </select>
        </Field>
      </div>
      <Field label="Tags" hint="With commas between.">
        <input className={inputLook} value={tags} onChange={(e) => setTags(e.target.value)} />
      </Field>
      <Field label="Notes">
        <textarea className={`${inputLook} min-h-24 py-2`} value={notes} onChange={(e) => setNotes(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
