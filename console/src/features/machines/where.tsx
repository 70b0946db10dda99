import { useState } from "react";

import { api, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Field, FormDialog, inputLook } from "../../ui/dialog";

const list = (text: string) => [...new Set(text.split(",").map((x) => x.trim()).filter(Boolean))];

/** Where a machine stands, which pools' lines it works on, and what else jobs may ask of it. */
export function Where({ machine: m, close }: { machine: MachineDetail; close: () => void }) {
  const [site, setSite] = useState(m.site ?? "");
  const [place, setPlace] = useState(m.place ?? "");
  const [pools, setPools] = useState((m.pools ?? []).join(", "));
  const [tags, setTags] = useState((m.tags ?? []).join(", "));
  const change = useChange(
    () =>
      value(
        api.PATCH("/api/machines/{name}", { params: { path: { name: m.name } }, body: { site, place, pools: list(pools), tags: list(tags) } }),
      ).then(close),
    "machine",
    "machines",
    "plan",
    "jobs",
  );
  return (
    <FormDialog title={`Place and pools of ${m.name}`} close={close} send={() => change.mutate(undefined)} asked={change.isPending} error={change.error} action="Set">
      <div className="grid grid-cols-2 gap-3">
        <Field label="Site" hint="With hours of its own.">
          <input className={inputLook} value={site} onChange={(e) => setSite(e.target.value)} autoFocus />
        </Field>
        <Field label="Place" hint="The rounds walk by it.">
          <input className={inputLook} value={place} onChange={(e) => setPlace(e.target.value)} placeholder="A2" />
        </Field>
      </div>
      <Field label="Pools" hint="Each has a line of its own in the queue. Commas between.">
        <input className={inputLook} value={pools} onChange={(e) => setPools(e.target.value)} />
      </Field>
      <Field label="Tags" hint="What jobs may ask for, or ask to avoid. Commas between.">
        <input className={inputLook} value={tags} onChange={(e) => setTags(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
