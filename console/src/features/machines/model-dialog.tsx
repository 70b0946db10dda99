import { useState } from "react";

import { api, type Model, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Loading } from "../../ui/page";
import { useModels, useReferenceModels } from "./queries";

/** A new model: begun from what kind of machine it is, or from one that is there. */
export function ModelDialog({ close, made }: { close: () => void; made: (name: string) => void }) {
  const reference = useReferenceModels().data;
  const models = useModels().data ?? [];
  const [like, setLike] = useState("");
  const [typed, setTyped] = useState<{ name?: string; x?: string; y?: string; z?: string; nozzle?: string; bed?: string }>({});
  const begins = [...(reference ?? []).map((r) => ({ what: r.what, model: r.model })), ...models.map((m) => ({ what: `Like ${m.name}`, model: { ...m, name: `${m.name}, another` } }))];
  const from = begins.find((b) => b.what === like) ?? begins[0];
  const volume = (from?.model.volume_mm ?? []) as number[];
  const now = {
    name: typed.name ?? from?.model.name ?? "",
    x: typed.x ?? String(volume[0] ?? ""), y: typed.y ?? String(volume[1] ?? ""), z: typed.z ?? String(volume[2] ?? ""),
    nozzle: typed.nozzle ?? String(from?.model.nozzle_ceiling_c ?? ""), bed: typed.bed ?? String(from?.model.bed_ceiling_c ?? ""),
  };
  const type = (field: keyof typeof typed) => (e: { target: { value: string } }) => setTyped({ ...typed, [field]: e.target.value });
  const add = useChange(async () => {
    const size = [Number(now.x), Number(now.y), Number(now.z)];
    const park = from!.model.park_mm as number[];
    const body = {
      ...from!.model, name: now.name.trim(), volume_mm: size, nozzle_ceiling_c: Number(now.nozzle), bed_ceiling_c: Number(now.bed),
      park_mm: [Math.min(park[0]!, size[0]!), Math.min(park[1]!, Math.max(0, size[1]! - 10))],
    } as Model;
    await value(api.POST("/api/models", { body: body as never }));
    made(body.name);
    close();
  }, "models", "first-steps");
  const figure = (label: string, field: keyof typeof now) => (
    <Field label={label}>
      <input className={inputLook} type="number" min={1} max={5000} step="any" value={now[field]} onChange={type(field)} required />
    </Field>
  );
  return (
    <FormDialog
      title="A new model"
      text="What machines of one make have in common. Everything else of it begins with usual figures and can be changed by `chronarch models change`."
      close={close}
      send={() => add.mutate(undefined)}
      asked={add.isPending}
      error={add.error}
      action="Add the model"
    >
      {!from ? (
        <Loading rows={4} />
      ) : (
        <>
          <Field label="What it is">
            <select
              className={inputLook}
              value={from.what}
              onChange={(e) => {
                setLike(e.target.value);
                setTyped({});
              }}
            >
              {begins.map((b) => (
                <option key={b.what}>{b.what}</option>
              ))}
            </select>
          </Field>
          <Field label="Name of the model">
            <input className={inputLook} value={now.name} onChange={type("name")} required maxLength={60} />
          </Field>
          <div className="grid grid-cols-3 gap-3">
            {figure("Width (x), mm", "x")}
            {figure("Depth (y), mm", "y")}
            {figure("Height (z), mm", "z")}
          </div>
          <div className="grid grid-cols-2 gap-3">
            {figure("Nozzle at most, °C", "nozzle")}
            {figure("Bed at most, °C", "bed")}
          </div>
        </>
      )}
    </FormDialog>
  );
}
