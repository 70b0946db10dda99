import { ANY, type Machine, type Requirement } from "../../api/client";
import { useMachines } from "../machines/queries";
import { inputLook } from "../../ui/dialog";

/** What something needs of a machine, as a form holds it: empty is any. */
export interface Needs {
  /** `MATERIAL|COLOUR` */
  loaded: string;
  nozzle: string;
  /** `pool:P`, `model:M` or `machine:M` */
  where: string;
  tags: string;
  hardened: boolean;
  /** `X x Y x Z`, mm */
  volume: string;
}

export const NO_NEEDS: Needs = { loaded: "", nozzle: "", where: "", tags: "", hardened: false, volume: "" };

/** Needs as the service wants them. */
export function requirement(n: Needs): Requirement {
  const [material = "", colour = ""] = n.loaded.split("|");
  const [kind, ...name] = n.where.split(":");
  const sides = n.volume.split(/[^0-9.]+/).filter(Boolean).map(Number);
  return {
    ...ANY,
    material,
    colour,
    nozzle_mm: n.nozzle ? Number(n.nozzle) : null,
    hardened: n.hardened,
    tags: n.tags,
    volume_mm: sides.length === 3 ? [sides[0]!, sides[1]!, sides[2]!] : null,
    ...(kind ? { [kind]: name.join(":") } : {}),
  };
}

const different = (values: string[]) => [...new Set(values)].filter(Boolean).sort();

function places(machines: Machine[]): [string, string, string[]][] {
  return [
    ["Pools", "pool", different(machines.flatMap((m) => m.pools ?? []))],
    ["Models", "model", different(machines.map((m) => m.model))],
    ["Machines", "machine", different(machines.map((m) => m.name))],
  ];
}

/** Fields for needs; `of` goes before each label, for a form that has several. */
export function NeedsFields({ value: n, set, of = "" }: { value: Needs; set: (change: Partial<Needs>) => void; of?: string }) {
  const machines = useMachines().data ?? [];
  const tools = machines.flatMap((m) => m.tools);
  const materials = different(tools.filter((t) => t.material).flatMap((t) => [`${t.material}|`, `${t.material}|${t.colour}`]));
  const label = (text: string) => (of ? `${of}: ${text}` : text[0]!.toUpperCase() + text.slice(1));
  return (
    <>
      <div className="grid gap-2 sm:grid-cols-3">
        <select aria-label={label("material and colour")} className={inputLook} value={n.loaded} onChange={(e) => set({ loaded: e.target.value })}>
          <option value="">any material</option>
          {materials.map((m) => {
            const [material, colour] = m.split("|");
            return (
              <option key={m} value={m}>
                {colour ? `${colour} ${material}` : `${material}, any colour`}
              </option>
            );
          })}
        </select>
        <select aria-label={label("nozzle")} className={inputLook} value={n.nozzle} onChange={(e) => set({ nozzle: e.target.value })}>
          <option value="">any nozzle</option>
          {different(tools.map((t) => String(t.nozzle_mm))).map((mm) => (
            <option key={mm} value={mm}>
              {mm} mm
            </option>
          ))}
        </select>
        <select aria-label={label("where")} className={inputLook} value={n.where} onChange={(e) => set({ where: e.target.value })}>
          <option value="">any machine</option>
          {places(machines).map(([title, kind, names]) =>
            names.length === 0 ? null : (
              <optgroup key={kind} label={title}>
                {names.map((name) => (
                  <option key={name} value={`${kind}:${name}`}>
                    {kind === "pool" ? `pool ${name}` : name}
                  </option>
                ))}
              </optgroup>
            ),
          )}
        </select>
      </div>
      <details className="mt-2 text-sm">
        <summary className="cursor-pointer text-faded">More needs</summary>
        <div className="mt-2 grid gap-2 sm:grid-cols-2">
          <label>
            Tags
            <input aria-label={label("tags")} className={inputLook} value={n.tags} placeholder='"food safe" and not loud' onChange={(e) => set({ tags: e.target.value })} />
          </label>
          <label>
            Volume at least, mm
            <input
              aria-label={label("volume")}
              className={inputLook}
              value={n.volume}
              placeholder="300 x 300 x 400"
              pattern="\s*[\d.]+[^\d.]+[\d.]+[^\d.]+[\d.]+\s*"
              title="Three sides, like 300 x 300 x 400"
              onInvalid={(e) => (e.currentTarget.closest("details")!.open = true)}
              onChange={(e) => set({ volume: e.target.value })}
            />
          </label>
          <label className="flex items-center gap-2">
            <input type="checkbox" checked={n.hardened} onChange={(e) => set({ hardened: e.target.checked })} /> Only a hardened nozzle
          </label>
        </div>
      </details>
    </>
  );
}
