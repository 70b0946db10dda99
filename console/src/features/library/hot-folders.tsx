import { useQuery } from "@tanstack/react-query";
import { useState } from "react";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import type { components } from "../../api/schema";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useMay } from "../../api/may";

type Hot = components["schemas"]["HotFolderShown"];

/** Folders of the service's computer whose files are taken in by themselves, and a program that slicers send with. */
export function HotFoldersSetup() {
  const folders = useQuery({ queryKey: ["hot-folders"], queryFn: () => value(api.GET("/api/hot-folders")), refetchInterval: 30_000 });
  const may = useMay()("set_up") === null;
  const [adding, setAdding] = useState(false);
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Files that come by themselves</SheetTitle>
      {folders.error ? (
        <Failed error={folders.error} again={() => folders.refetch()} />
      ) : !folders.data ? (
        <Loading rows={2} />
      ) : (
        <>
          {folders.data.length === 0 && <p className="m-0 px-5 pb-3 text-faded">A hot folder on the service's computer: what is put there is added, and queued if you like.</p>}
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {folders.data.map((one) => (
              <Row key={one.id} one={one} may={may} />
            ))}
          </ul>
          <div className="flex flex-wrap items-center gap-x-4 gap-y-2 border-t border-rule px-5 py-3">
            {may && <Button onClick={() => setAdding(true)}>Add a hot folder…</Button>}
            <span className="text-sm text-faded">
              Slicers send with{" "}
              <a href="/api/drop-script" download className="underline">
                a script
              </a>{" "}
              of ours, run after slicing.
            </span>
          </div>
        </>
      )}
      {adding && <HotDialog close={() => setAdding(false)} />}
    </Sheet>
  );
}

function follows({ queue }: Hot): string {
  if (!queue) return "only added";
  const needs = [queue.colour, queue.material, queue.machine && `on ${queue.machine}`].filter(Boolean).join(" ");
  return `${queue.copies === 1 ? "1 copy" : `${queue.copies} copies`} queued${needs ? `: ${needs}` : ""}`;
}

function Row({ one, may }: { one: Hot; may: boolean }) {
  const path = { params: { path: { number: one.id } } };
  const turn = useChange(() => value(api.PUT("/api/hot-folders/{number}", { ...path, body: { path: one.path, folder: one.folder, queue: one.queue, on: !one.on } as never })), "hot-folders");
  const remove = useChange(() => value(api.DELETE("/api/hot-folders/{number}", path)), "hot-folders");
  return (
    <li className="flex flex-wrap items-center justify-between gap-x-3 gap-y-1 px-5 py-2">
      <span className="min-w-0 flex-[1_1_14rem]">
        <span className="block truncate font-mono text-sm" title={one.path}>
          {one.path}
        </span>
        <span className="text-sm text-faded">
          to {one.folder || "the library"} · {follows(one)}
          {one.on ? "" : " · off"}
        </span>
        {one.trouble && <span className="block text-sm text-alarm">{one.trouble}</span>}
        <Refusal error={turn.error ?? remove.error} />
      </span>
      {may && (
        <span className="flex">
          <Button kind="quiet" asked={turn.isPending} onClick={() => turn.mutate(undefined)}>
            {one.on ? "Turn off" : "Turn on"}
          </Button>
          <Button kind="quiet" asked={remove.isPending} onClick={() => remove.mutate(undefined)}>
            Remove
          </Button>
        </span>
      )}
    </li>
  );
}

function HotDialog({ close }: { close: () => void }) {
  const [now, setNow] = useState({ path: "", folder: "", queued: false, copies: "1", material: "", machine: "" });
  const set = (change: Partial<typeof now>) => setNow((before) => ({ ...before, ...change }));
  const add = useChange(() => {
    const queue = now.queued ? { copies: Number(now.copies) || 1, material: now.material.trim(), machine: now.machine.trim() } : null;
    return value(api.POST("/api/hot-folders", { body: { path: now.path.trim(), folder: now.folder.trim(), queue, on: true } as never })).then(close);
  }, "hot-folders");
  return (
    <FormDialog title="A hot folder" text="A folder of the service's computer, in one of those that it may look into. Files are moved to “taken” or “refused” in it, with a text that says what came of each." close={close} send={() => add.mutate(undefined)} asked={add.isPending} error={add.error} action="Look into it">
      <Field label="Folder on the service's computer">
        <input className={`${inputLook} font-mono text-sm`} autoFocus value={now.path} onChange={(e) => set({ path: e.target.value })} placeholder="/media/sliced" required maxLength={700} spellCheck={false} />
      </Field>
      <Field label="Goes to the library's folder" hint="The library itself without one.">
        <input className={inputLook} value={now.folder} onChange={(e) => set({ folder: e.target.value })} maxLength={300} />
      </Field>
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={now.queued} onChange={(e) => set({ queued: e.target.checked })} />
        Queue each file at once
      </label>
      {now.queued && (
        <div className="grid grid-cols-3 gap-3">
          <Field label="Copies">
            <input className={inputLook} type="number" min={1} max={10000} value={now.copies} onChange={(e) => set({ copies: e.target.value })} required />
          </Field>
          <Field label="Material">
            <input className={inputLook} value={now.material} onChange={(e) => set({ material: e.target.value })} maxLength={60} placeholder="any" />
          </Field>
          <Field label="Machine">
            <input className={inputLook} value={now.machine} onChange={(e) => set({ machine: e.target.value })} maxLength={60} placeholder="any" />
          </Field>
        </div>
      )}
    </FormDialog>
  );
}
