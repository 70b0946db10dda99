import { useQuery } from "@tanstack/react-query";
import { X } from "lucide-react";
import { useState } from "react";

import { addressOf, ASKED, askedOf, type BuildSearch } from "./history-address";
import { useChange } from "../../api/change";
import { api, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";

interface Props {
  get: (name: string) => string;
  change: (wish: Record<string, string>) => void;
}

/** What people ask of the history again and again: one press asks for it, and what is asked now is saved under a name. */
export function SavedViews({ get, change }: Props) {
  const views = useQuery({ queryKey: ["saved-views"], queryFn: () => value(api.GET("/api/builds/views")) }).data ?? [];
  const forget = useChange((name: string) => value(api.DELETE("/api/builds/views/{name}", { params: { path: { name } } })), "saved-views");
  const [naming, setNaming] = useState(false);
  const here = (asked: BuildSearch) => Object.entries(addressOf(asked)).every(([name, said]) => get(name) === said);
  const narrowed = ASKED.some((name) => get(name));
  const current = narrowed ? views.find((v) => here(v.asked)) : undefined;
  if (views.length === 0 && !narrowed) return null;
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-1.5 gap-y-2 text-sm">
      {views.map((v) => (
        <span key={v.name} className={`inline-flex items-center rounded-md ${v === current ? "bg-ink text-ground" : "bg-sunk text-ink"}`}>
          <button type="button" aria-pressed={v === current} title={`saved by ${v.saved_by}`} className="min-h-8 px-2.5" onClick={() => change(addressOf(v.asked))}>
            {v.name}
          </button>
          {v === current && (
            <button type="button" className="min-h-8 pr-2" aria-label={`Forget the view ${v.name}`} onClick={() => forget.mutate(v.name)}>
              <X size={14} aria-hidden />
            </button>
          )}
        </span>
      ))}
      {narrowed && !current && (
        <Button kind="quiet" onClick={() => setNaming(true)}>
          Save this view
        </Button>
      )}
      {narrowed && (
        <Button kind="quiet" onClick={() => change(addressOf({} as BuildSearch))}>
          All builds
        </Button>
      )}
      <Refusal error={forget.error} />
      {naming && <Naming asked={askedOf(get)} close={() => setNaming(false)} />}
    </div>
  );
}

function Naming({ asked, close }: { asked: Record<string, string>; close: () => void }) {
  const [name, setName] = useState("");
  const save = useChange(
    () => value(api.PUT("/api/builds/views/{name}", { params: { path: { name: name.trim() } }, body: asked as unknown as BuildSearch })),
    "saved-views",
  );
  return (
    <FormDialog
      title="Save this view"
      text="Everybody in the shop finds it above the list. A name that is taken stands for the new view from then on."
      close={close}
      send={() => save.mutate(undefined, { onSuccess: close })}
      asked={save.isPending}
      error={save.error}
      action="Save"
    >
      <Field label="Its name">
        <input className={inputLook} value={name} onChange={(e) => setName(e.target.value)} required maxLength={60} autoFocus />
      </Field>
    </FormDialog>
  );
}
