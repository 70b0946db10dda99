import { FolderClosed } from "lucide-react";
import { useState } from "react";

import { api, type Folder, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useFolders } from "./queries";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { sum } from "../../ui/format";
import { Refusal } from "../../ui/page";

/** The library's folders; the chosen one narrows the list. */
export function Folders({ chosen, choose, total }: { chosen: string; choose: (path: string) => void; total: number }) {
  const folders = useFolders().data ?? [];
  const below = (path: string) => sum(folders.filter((f) => f.path === path || f.path.startsWith(`${path}/`)).map((f) => f.files ?? 0));
  const rows: Folder[] = [{ path: "", files: total }, ...folders.map((f) => ({ ...f, files: below(f.path) }))];
  const name = (path: string) => path.split("/").at(-1) || "All files";
  return (
    <nav aria-label="Folders" className="min-w-0">
      <select
        aria-label="Folder"
        className={`${inputLook} lg:hidden`}
        value={chosen}
        onChange={(e) => choose(e.target.value)}
      >
        {rows.map((f) => (
          <option key={f.path} value={f.path}>
            {f.path || "All files"} ({f.files})
          </option>
        ))}
      </select>
      <ul className="m-0 hidden list-none flex-col p-0 lg:flex">
        {rows.map((f) => {
          const depth = f.path ? f.path.split("/").length : 0;
          return (
            <li key={f.path}>
              <button
                type="button"
                aria-current={f.path === chosen}
                onClick={() => choose(f.path)}
                style={{ paddingLeft: `${0.6 + depth * 0.75}rem` }}
                className={`flex w-full items-center gap-2 rounded-md py-1.5 pr-2.5 text-left ${f.path === chosen ? "bg-sunk font-semibold" : "text-ink hover:bg-sunk/60"}`}
              >
                {depth > 0 && <FolderClosed size={15} aria-hidden className="shrink-0 text-faded" />}
                <span className="min-w-0 flex-1 truncate">{name(f.path)}</span>
                <span className="text-sm text-faded">{f.files}</span>
              </button>
            </li>
          );
        })}
      </ul>
      {chosen && <FolderDeeds path={chosen} choose={choose} />}
    </nav>
  );
}

/** Rename the chosen folder, or remove it when it is empty. */
function FolderDeeds({ path, choose }: { path: string; choose: (path: string) => void }) {
  const [to, setTo] = useState<string | null>(null);
  const move = useChange(
    () => value(api.POST("/api/folders/move", { body: { path, to: to ?? "" } })).then(() => (choose(to ?? ""), setTo(null))),
    "files",
  );
  const remove = useChange(
    () => value(api.DELETE("/api/folders", { params: { query: { path } } })).then(() => choose("")),
    "files",
  );
  return (
    <div className="mt-2">
      <Button needs="change_files" kind="quiet" onClick={() => setTo(path)}>
        Rename…
      </Button>
      <Button needs="change_files" kind="quiet" asked={remove.isPending} onClick={() => remove.mutate(undefined)}>
        Remove
      </Button>
      <Refusal error={remove.error} />
      {to !== null && (
        <FormDialog
          title={`Rename ${path}`}
          text="Its files go with it; a / puts it inside another."
          close={() => setTo(null)}
          send={() => move.mutate(undefined)}
          asked={move.isPending}
          error={move.error}
          action="Rename"
        >
          <Field label="New path">
            <input autoFocus required className={inputLook} value={to} onChange={(e) => setTo(e.target.value)} />
          </Field>
        </FormDialog>
      )}
    </div>
  );
}

export function NewFolder({ inside, close }: { inside: string; close: () => void }) {
  const [name, setName] = useState("");
  const make = useChange(
    () => value(api.POST("/api/folders", { body: { path: [inside, name].filter(Boolean).join("/"), files: 0 } })).then(close),
    "files",
  );
  return (
    <FormDialog
      title="New folder"
      text={inside ? `Inside ${inside}.` : undefined}
      close={close}
      send={() => make.mutate(undefined)}
      asked={make.isPending}
      error={make.error}
      action="Make folder"
    >
      <Field label="Name">
        <input autoFocus required className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
