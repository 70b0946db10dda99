import { useState } from "react";

import { api, type Material, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { useMay } from "../../api/may";
import { useMaterials } from "./queries";

const NEW: Material = { name: "", density_g_cm3: 1.2, nozzle_c: 210, bed_c: 60, diameter_mm: 1.75 };

/** What is printed with: what it weighs, and how warm it wants it. */
export function MaterialsSetup() {
  const materials = useMaterials();
  const may = useMay()("change_models") === null;
  const [open, setOpen] = useState<{ material: Material; own: boolean } | null>(null);
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Materials</SheetTitle>
      {materials.error ? (
        <Failed error={materials.error} again={() => materials.refetch()} />
      ) : !materials.data ? (
        <Loading rows={4} />
      ) : (
        <>
          <ul className="m-0 max-h-80 list-none divide-y divide-rule overflow-auto p-0">
            {materials.data.map(({ material: m, own }) => (
              <li key={m.name} className="grid grid-cols-[1fr_auto] items-center gap-x-3 px-5 py-2 sm:grid-cols-[8rem_1fr_auto]">
                <span className="min-w-0 break-words">{m.name}</span>
                <span className="order-last col-span-2 text-sm text-faded tabular-nums sm:order-none sm:col-span-1">
                  {m.density_g_cm3} g/cm³ · nozzle {m.nozzle_c} °C · bed {m.bed_c} °C{own ? " · your own" : ""}
                </span>
                {may ? (
                  <Button kind="quiet" aria-label={`Change ${m.name}`} onClick={() => setOpen({ material: m, own })}>
                    Change…
                  </Button>
                ) : (
                  <span />
                )}
              </li>
            ))}
          </ul>
          {may && (
            <div className="border-t border-rule px-5 py-3">
              <Button onClick={() => setOpen({ material: NEW, own: false })}>Add a material…</Button>
            </div>
          )}
        </>
      )}
      {open && <MaterialDialog {...open} close={() => setOpen(null)} />}
    </Sheet>
  );
}

function MaterialDialog({ material, own, close }: { material: Material; own: boolean; close: () => void }) {
  const [now, setNow] = useState({
    name: material.name, density_g_cm3: String(material.density_g_cm3), nozzle_c: String(material.nozzle_c), bed_c: String(material.bed_c),
    diameter_mm: String(material.diameter_mm),
  });
  const known = material.name !== "";
  const put = useChange(async () => {
    const body = { name: now.name.trim(), density_g_cm3: Number(now.density_g_cm3), nozzle_c: Number(now.nozzle_c), bed_c: Number(now.bed_c), diameter_mm: Number(now.diameter_mm) };
    await value(api.PUT("/api/materials", { body }));
    close();
  }, "materials");
  const forget = useChange(async () => {
    await value(api.DELETE("/api/materials/{name}", { params: { path: { name: material.name } } }));
    close();
  }, "materials");
  const figure = (label: string, field: Exclude<keyof typeof now, "name">, least: number, most: number) => (
    <Field label={label}>
      <input className={inputLook} type="number" min={least} max={most} step="any" value={now[field]} onChange={(e) => setNow({ ...now, [field]: e.target.value })} required />
    </Field>
  );
  return (
    <FormDialog
      title={known ? material.name : "A material"}
      text="Weights are reckoned and machines are heated by this from now on. Builds that have ended keep theirs."
      close={close}
      send={() => put.mutate(undefined)}
      asked={put.isPending}
      error={put.error ?? forget.error}
      action={known ? "Keep it" : "Add it"}
    >
      {!known && (
        <Field label="Name" hint="As files and spools call it: PLA, PA-CF.">
          <input className={inputLook} autoFocus value={now.name} onChange={(e) => setNow({ ...now, name: e.target.value })} required maxLength={60} autoComplete="off" />
        </Field>
      )}
      <div className="grid grid-cols-2 gap-3">
        {figure("Density, g/cm³", "density_g_cm3", 0.1, 20)}
        {figure("Filament, mm", "diameter_mm", 0.5, 5)}
        {figure("Nozzle, °C", "nozzle_c", 0, 500)}
        {figure("Bed, °C", "bed_c", 0, 500)}
      </div>
      {own && (
        <div>
          <Button kind="quiet" asked={forget.isPending} onClick={() => forget.mutate(undefined)}>
            Forget your own figures
          </Button>
        </div>
      )}
    </FormDialog>
  );
}
