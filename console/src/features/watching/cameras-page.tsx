import { useState } from "react";
import { Link } from "react-router";

import type { Camera, Machine } from "../../api/client";
import { useAddress } from "../../ui/address";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { Pick } from "../../ui/pick";
import { SearchField } from "../../ui/search-field";
import { STATES } from "../../ui/state";
import { type Group, grouped, says } from "../machines/grouping";
import { useMachines } from "../machines/queries";
import { columnsFor, FOOT_PX, GAP_PX, useRoom } from "./fitting";
import { useCameras } from "./queries";
import { stills } from "./stills";
import { Tile } from "./tile";
import { Wall } from "./wall";
import { useOpenSuspicions } from "./watch-queries";
import { worth } from "./worth";

const FEW = 12;
const GROUPS = [
  { key: "", name: "no groups" },
  { key: "site", name: "grouped by site" },
  { key: "pool", name: "grouped by pool" },
  { key: "material", name: "grouped by material" },
];
const ORDERS = [
  { key: "", name: "by name" },
  { key: "worth", name: "most worth looking at first" },
];

/** Every camera at once. What is chosen is in the page's address, so that a view can be kept and passed on. */
export function CamerasPage() {
  const cameras = useCameras();
  const machines = useMachines();
  const [get, change] = useAddress();
  const [room, setRoom] = useState<HTMLElement | null>(null);
  const { wide, high } = useRoom(room);
  const set = (name: string, to: string) => change({ [name]: to });
  const byName = new Map((machines.data ?? []).map((m) => [m.name, m]));
  const suspected = new Set((useOpenSuspicions("").data ?? []).map((s) => s.machine));
  const all = cameras.data ?? [];
  if (get("form") === "wall") return <Wall cameras={ordered(all, byName, suspected, true)} machines={byName} />;
  const sites = [...new Set(all.map((c) => c.site || byName.get(c.machine ?? "")?.site || "").filter(Boolean))].sort();
  const pools = [...new Set(all.flatMap((c) => byName.get(c.machine ?? "")?.pools ?? []))].sort();
  const materials = [...new Set(all.flatMap((c) => materialsOf(byName.get(c.machine ?? ""))))].sort();
  const present = STATES.filter((s) => all.some((c) => byName.get(c.machine ?? "")?.state === s));
  const shown = ordered(
    all.filter((c) => fits(c, byName.get(c.machine ?? ""), get)),
    byName,
    suspected,
    get("first") === "worth",
  );
  const group = (get("group") || "none") as Group;
  const groups = grouped(shown, group, (c) => byName.get(c.machine ?? ""));
  const layout = columnsFor(shown.length, wide, Math.max(300, high - 16));
  const columns = group === "none" ? layout.columns : Math.max(1, Math.floor(wide / 260));
  const tile = (wide - GAP_PX * (columns - 1)) / columns;
  const still = stills();
  return (
    <Page
      title="Cameras"
      wide
      beside={
        <div className="flex flex-wrap items-center gap-2 text-sm">
          <SearchField label="Search the cameras" hint="Machine, place, file" words={get("words")} change={(words) => set("words", words)} />
          <Pick label="State" options={any("every state", present)} value={get("state")} choose={(s) => set("state", s)} />
          {sites.length > 1 && <Pick label="Site" options={any("every site", sites)} value={get("site")} choose={(s) => set("site", s)} />}
          {pools.length > 1 && <Pick label="Pool" options={any("every pool", pools)} value={get("pool")} choose={(p) => set("pool", p)} />}
          {materials.length > 1 && (
            <Pick label="Material" options={any("every material", materials)} value={get("material")} choose={(m) => set("material", m)} />
          )}
          <Pick label="Group" options={GROUPS} value={get("group")} choose={(g) => set("group", g)} />
          <Pick label="Order" options={ORDERS} value={get("first")} choose={(f) => set("first", f)} />
          <Link to="/cameras?form=wall" className="ml-1 whitespace-nowrap max-sm:hidden">
            Big screen
          </Link>
        </div>
      }
    >
      {cameras.error ? (
        <Failed error={cameras.error} again={() => cameras.refetch()} />
      ) : cameras.isPending || machines.isPending ? (
        <Sheet>
          <Loading rows={4} height="h-32" />
        </Sheet>
      ) : all.length === 0 ? (
        <Sheet>
          <Empty title="No cameras yet">
            <Link to="/setup#cameras">Add the first one</Link>, or with <code>chronarch cameras add</code>.
          </Empty>
        </Sheet>
      ) : (
        <div ref={setRoom}>
          {shown.length === 0 && (
            <Sheet>
              <Empty title="No camera fits">Choose less above, or search for something else.</Empty>
            </Sheet>
          )}
          {wide > 0 &&
            groups.map(([name, members]) => (
              <section key={name} aria-label={name || "All cameras"} className="mb-4">
                {name && <h2 className="mt-0 mb-2 text-lg font-semibold">{name}</h2>}
                <ul className="m-0 grid list-none gap-3 p-0" style={{ gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))` }}>
                  {members.map((c) => (
                    <li key={c.name} style={{ height: tile * 0.75 + FOOT_PX }}>
                      <Tile
                        camera={c}
                        machine={byName.get(c.machine ?? "")}
                        size={shown.length <= FEW && tile > 520 && !still ? "full" : "small"}
                        rate={still ? 0.2 : shown.length <= FEW ? 5 : 2}
                        large={false}
                      />
                    </li>
                  ))}
                </ul>
              </section>
            ))}
        </div>
      )}
    </Page>
  );
}

const materialsOf = (m: Machine | undefined) => (m?.tools ?? []).map((t) => t.material).filter((name): name is string => Boolean(name));
const any = (all: string, some: string[]) => [{ key: "", name: all }, ...some.map((s) => ({ key: s, name: s }))];

function fits(c: Camera, m: Machine | undefined, get: (name: string) => string): boolean {
  const site = c.site || m?.site || "";
  const text = `${c.name} ${c.place ?? ""} ${site}`.toLowerCase();
  const words = get("words").toLowerCase();
  return (
    (!get("state") || m?.state === get("state")) &&
    (!get("site") || site === get("site")) &&
    (!get("material") || materialsOf(m).includes(get("material"))) &&
    (!get("pool") || (m?.pools ?? []).includes(get("pool"))) &&
    (!words || text.includes(words) || (m !== undefined && says(m, words)))
  );
}

function ordered(cameras: Camera[], machines: Map<string, Machine>, suspected: Set<string>, byWorth: boolean): Camera[] {
  const key = (c: Camera) => (byWorth ? -worth(c, machines.get(c.machine ?? ""), suspected.has(c.machine ?? "")) : 0);
  const room = (c: Camera) => (c.machine ? 0 : 1);
  return [...cameras].sort((a, b) => key(a) - key(b) || room(a) - room(b) || a.name.localeCompare(b.name));
}
