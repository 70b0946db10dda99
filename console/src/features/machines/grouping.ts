import type { Machine } from "../../api/client";

/** Whether every word is in what a machine's row says. */
export function says(m: Machine, words: string) {
  const text = [m.name, m.place, m.site, m.model, m.build?.file, ...m.tools.flatMap((t) => [t.colour, t.material])].join(" ").toLowerCase();
  return words.toLowerCase().split(/\s+/).every((word) => text.includes(word));
}

export type Group = "none" | "site" | "pool" | "material";

const KEYS: Record<Group, (m: Machine) => string[]> = {
  none: () => [""],
  site: (m) => [m.site || "no site"],
  pool: (m) => (m.pools?.length ? m.pools : ["no pool"]),
  material: (m) => [[m.tools[0]?.colour, m.tools[0]?.material].filter(Boolean).join(" ") || "nothing loaded"],
};

/** Rows under headings; what belongs to a machine of several pools stands under each. */
export function grouped<T>(rows: T[], group: Group, machineOf: (row: T) => Machine | undefined): [string, T[]][] {
  const found = new Map<string, T[]>();
  for (const row of rows) {
    const m = machineOf(row);
    for (const key of m ? KEYS[group](m) : [group === "none" ? "" : "rooms"]) found.set(key, [...(found.get(key) ?? []), row]);
  }
  return [...found].sort(([a], [b]) => a.localeCompare(b));
}
