import { useState } from "react";

import { type FileFilter, useLibrary } from "./queries";
import { useModels } from "../machines/queries";
import { useAddress } from "../../ui/address";
import { Button } from "../../ui/button";
import { SearchField } from "../../ui/search-field";

/** The filter as the page's address has it. */
export function useFilter(): [FileFilter, (change: Record<string, string>) => void] {
  const [get, change] = useAddress();
  const text = (name: string) => get(name) || undefined;
  const number = (name: string) => (get(name) ? Number(get(name)) : undefined);
  const filter: FileFilter = {
    search: text("search"),
    folder: text("folder"),
    tag: text("tag"),
    material: text("material"),
    nozzle_mm: number("nozzle"),
    model: text("model"),
    least_s: number("least") && number("least")! * 60,
    most_s: number("most") && number("most")! * 60,
    least_size: number("size") && number("size")! * 1e6,
  };
  return [filter, change];
}

/** Words and choices that narrow the list. */
export function Filters({ filter, change }: { filter: FileFilter; change: (c: Record<string, string>) => void }) {
  const models = useModels().data ?? [];
  const library = useLibrary().data;
  const select = (label: string, name: string, chosen: string, options: (string | number)[], unit = "") =>
    options.length > 0 && (
      <select
        aria-label={label}
        className="min-h-9 rounded-md border border-rule bg-sheet px-2 text-sm text-ink"
        value={chosen}
        onChange={(e) => change({ [name]: e.target.value })}
      >
        <option value="">{label}: any</option>
        {options.map((o) => (
          <option key={o} value={o}>
            {o}
            {unit}
          </option>
        ))}
      </select>
    );
  const times: [string, string, string][] = [
    ["under half an hour", "", "30"],
    ["half to one hour", "30", "60"],
    ["one to four hours", "60", "240"],
    ["over four hours", "240", ""],
  ];
  const time = times.findIndex(
    ([, least, most]) => (filter.least_s ?? 0) / 60 === Number(least || 0) && (filter.most_s ?? 0) / 60 === Number(most || 0),
  );
  const [open, setOpen] = useState(false);
  return (
    <div className={`mb-3 flex flex-wrap items-center gap-2 ${open ? "" : "[&>select]:hidden sm:[&>select]:block"}`}>
      <SearchField
        label="Search"
        hint="Name, note, tag or part"
        words={filter.search ?? ""}
        change={(search) => change({ search })}
        className="min-w-48 flex-1"
      />
      <Button className="sm:hidden" aria-expanded={open} onClick={() => setOpen(!open)}>
        Filter
      </Button>
      {select("Material", "material", filter.material ?? "", library?.materials ?? [])}
      {select("Nozzle", "nozzle", String(filter.nozzle_mm ?? ""), library?.nozzles_mm ?? [], " mm")}
      {select("Model", "model", filter.model ?? "", models.map((m) => m.name))}
      {select("Tag", "tag", filter.tag ?? "", library?.tags ?? [])}
      <select
        aria-label="Time"
        className="min-h-9 rounded-md border border-rule bg-sheet px-2 text-sm text-ink"
        value={filter.least_s || filter.most_s ? time : ""}
        onChange={(e) => {
          const [, least, most] = times[Number(e.target.value)] ?? ["", "", ""];
          change(e.target.value === "" ? { least: "", most: "" } : { least, most });
        }}
      >
        <option value="">Time: any</option>
        {times.map(([name], i) => (
          <option key={name} value={i}>
            {name}
          </option>
        ))}
      </select>
      <select
        aria-label="Size"
        className="min-h-9 rounded-md border border-rule bg-sheet px-2 text-sm text-ink"
        value={filter.least_size ? filter.least_size / 1e6 : ""}
        onChange={(e) => change({ size: e.target.value })}
      >
        <option value="">Size: any</option>
        {[1, 10, 100].map((mb) => (
          <option key={mb} value={mb}>
            {mb} MB or more
          </option>
        ))}
      </select>
    </div>
  );
}
