import { Camera } from "lucide-react";

import { api, type Machine, value } from "../../api/client";
import { useChange } from "../../api/change";
import { sentPicture } from "../../api/picture";
import { Button } from "../../ui/button";
import { Refusal } from "../../ui/page";

const TOUCHES = ["machine", "machines"];

/** The address of a machine's photo; another photo has another. */
const photoOf = (m: Machine) => `/api/machines/${encodeURIComponent(m.name)}/photo?of=${m.photo ?? ""}`;

/** A machine as it looks, small. Where there is no photo, its first letter holds the place. */
export function Likeness({ machine: m, className = "h-9 w-9" }: { machine: Machine; className?: string }) {
  return m.photo ? (
    <img src={photoOf(m)} alt="" className={`${className} flex-none rounded-md object-cover`} loading="lazy" />
  ) : (
    <span aria-hidden className={`${className} grid flex-none place-items-center rounded-md bg-sunk font-serif text-faded`}>
      {m.name[0]}
    </span>
  );
}

/** Its photo, with ways to take another one or none. */
export function Photo({ machine: m }: { machine: Machine }) {
  const put = useChange((picture: File) => value(api.PUT("/api/machines/{name}/photo", sentPicture({ name: m.name }, picture))), ...TOUCHES);
  const remove = useChange(() => value(api.DELETE("/api/machines/{name}/photo", { params: { path: { name: m.name } } })), ...TOUCHES);
  return (
    <div className="flex flex-wrap items-center gap-3 px-5 pb-4">
      <Likeness machine={m} className="h-20 w-28 text-2xl" />
      <label className="inline-flex min-h-9 cursor-pointer items-center gap-2 rounded-md border border-rule px-3.5 text-sm font-medium hover:bg-sunk">
        <Camera size={16} aria-hidden />
        {put.isPending ? "Sending…" : m.photo ? "Another photo" : "Add a photo"}
        <input
          type="file"
          accept="image/jpeg,image/png"
          capture="environment"
          className="sr-only"
          aria-label={`A photo of ${m.name}`}
          disabled={put.isPending}
          onChange={(e) => {
            const file = e.target.files?.[0];
            if (file) put.mutate(file);
            e.target.value = "";
          }}
        />
      </label>
      {m.photo && (
        <Button kind="quiet" asked={remove.isPending} onClick={() => remove.mutate(undefined)}>
          None
        </Button>
      )}
      <Refusal error={put.error ?? remove.error} />
    </div>
  );
}
