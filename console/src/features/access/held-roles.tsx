import { X } from "lucide-react";

import type { HeldRole } from "../../api/client";
import { Button } from "../../ui/button";
import { inputLook } from "../../ui/dialog";
import { useMachines } from "../machines/queries";
import { useRoles } from "./queries";

/** The sites and pools that machines are in. */
function usePlaces() {
  const machines = useMachines().data ?? [];
  const sites = [...new Set(machines.map((m) => m.site).filter((s): s is string => !!s))].sort();
  const pools = [...new Set(machines.flatMap((m) => m.pools ?? []))].sort();
  return { sites, pools };
}

/** The roles that somebody holds, and for which place each: added, changed, taken away. */
export function HeldRoles({ roles, set }: { roles: HeldRole[]; set: (roles: HeldRole[]) => void }) {
  const known = (useRoles().data ?? []).filter((role) => role.name !== "tender");
  const { sites, pools } = usePlaces();
  const change = (n: number, one: Partial<HeldRole>) => set(roles.map((role, i) => (i === n ? { ...role, ...one } : role)));
  return (
    <fieldset className="m-0 flex flex-col gap-2 border-0 p-0">
      <legend className="mb-1 p-0 text-sm font-medium">Roles</legend>
      {roles.map((role, n) => (
        <div key={n} className="grid grid-cols-[1fr_1fr_auto] items-center gap-2">
          <select aria-label={`Role ${n + 1}`} className={inputLook} value={role.role} onChange={(e) => change(n, { role: e.target.value })}>
            {!known.some((one) => one.name === role.role) && <option>{role.role}</option>}
            {known.map((one) => (
              <option key={one.name}>{one.name}</option>
            ))}
          </select>
          <PlacePick label={`Where role ${n + 1} is held`} place={role} sites={sites} pools={pools} set={(place) => change(n, place)} />
          <button
            type="button"
            aria-label={`Take ${role.role} away`}
            className="grid h-10 w-10 place-items-center rounded-md text-faded hover:bg-sunk hover:text-ink"
            onClick={() => set(roles.filter((_, i) => i !== n))}
          >
            <X size={16} aria-hidden />
          </button>
        </div>
      ))}
      <Button className="self-start" onClick={() => set([...roles, { role: "operator", kind: "shop", place: "" }])}>
        Add a role
      </Button>
    </fieldset>
  );
}

/** Where something is held: the whole shop, a site, a pool. */
function PlacePick(props: { label: string; place: HeldRole; sites: string[]; pools: string[]; set: (place: Pick<HeldRole, "kind" | "place">) => void }) {
  const { kind = "shop", place = "" } = props.place;
  const now = kind === "shop" ? "shop:" : `${kind}:${place}`;
  const known = ["shop:", ...props.sites.map((s) => `site:${s}`), ...props.pools.map((p) => `pool:${p}`)];
  const said = (key: string) => (key === "shop:" ? "the whole shop" : `${key.slice(0, 4)} ${key.slice(5)}`);
  return (
    <select
      aria-label={props.label}
      className={inputLook}
      value={now}
      onChange={(e) => {
        const [next = "shop"] = e.target.value.split(":", 1);
        props.set({ kind: next as HeldRole["kind"], place: e.target.value.slice(next.length + 1) });
      }}
    >
      {[...new Set([...known, now])].map((key) => (
        <option key={key} value={key}>
          {said(key)}
        </option>
      ))}
    </select>
  );
}
