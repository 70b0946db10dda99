import type { components } from "../../api/schema";
import { percent } from "../../ui/format";

export type FiguresReport = components["schemas"]["FiguresReport"];
export type FigureRow = components["schemas"]["FigureRow"];
export type Figure = components["schemas"]["Figure"];
export type MeasureInfo = components["schemas"]["MeasureInfo"];
export type FigurePart = components["schemas"]["FigurePart"];

const WEEKDAYS = ["", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
const MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

/** By what figures are asked, as people say it. */
export const PARTS: { key: FigurePart; name: string; of: "machines" | "calendar" | "builds" | "stops" }[] = [
  { key: "machine", name: "machine", of: "machines" },
  { key: "model", name: "model", of: "machines" },
  { key: "site", name: "site", of: "machines" },
  { key: "pool", name: "pool", of: "machines" },
  { key: "group", name: "machines' tag", of: "machines" },
  { key: "month", name: "month", of: "calendar" },
  { key: "week", name: "week", of: "calendar" },
  { key: "day", name: "day", of: "calendar" },
  { key: "weekday", name: "day of the week", of: "calendar" },
  { key: "hour", name: "hour of the day", of: "calendar" },
  { key: "shift", name: "hands or none", of: "calendar" },
  { key: "part", name: "part", of: "builds" },
  { key: "file", name: "file", of: "builds" },
  { key: "material", name: "material", of: "builds" },
  { key: "colour", name: "colour", of: "builds" },
  { key: "customer", name: "customer", of: "builds" },
  { key: "person", name: "who judged it", of: "builds" },
  { key: "outcome", name: "how it ended", of: "builds" },
  { key: "scrap_reason", name: "scrap reason", of: "builds" },
  { key: "stop_reason", name: "why it stopped", of: "stops" },
];
export const partName = (part: FigurePart) => PARTS.find((p) => p.key === part)?.name ?? part;
/** Parts of the calendar that come one after another. */
export const RUNNING: FigurePart[] = ["month", "week", "day"];

/** Whether a measure can be asked by a part. */
export const fits = (measure: MeasureInfo | undefined, part: FigurePart) => {
  const of = PARTS.find((p) => p.key === part)?.of;
  return of === "builds" || of === "stops" ? measure?.source === of : true;
};

/** One value of what is asked by, as it stands beside a bar or a row. */
export function label(part: FigurePart, key: string): string {
  if (!key) return part === "scrap_reason" ? "not scrap" : "none";
  if (part === "weekday") return WEEKDAYS[Number(key)] ?? key;
  if (part === "hour") return `${key}:00`;
  if (part === "shift") return key === "staffed" ? "somebody there" : "nobody there";
  if (part === "month") return `${MONTHS[Number(key.slice(5)) - 1] ?? key} ${key.slice(0, 4)}`;
  if (part === "day") return `${Number(key.slice(8))} ${MONTHS[Number(key.slice(5, 7)) - 1] ?? ""}`;
  if (part === "week") return `week ${Number(key.slice(6))}`;
  return key;
}

/** Where the builds behind a row are. */
export const linkTo = (row: FigureRow) => (row.builds ? `/records/builds?${new URLSearchParams(row.builds)}` : undefined);

const many = (value: number, digits = 0) => value.toLocaleString("en-GB", { maximumFractionDigits: digits });

/** A value with its unit. */
export function written(unit: MeasureInfo["unit"], value: number): string {
  if (unit === "share") return percent(value, 1);
  if (unit === "h") return `${many(value, value < 100 ? 1 : 0)} h`;
  if (unit === "min") return `${many(value)} min`;
  if (unit === "g") return value >= 10_000 ? `${many(value / 1000, 1)} kg` : `${many(value)} g`;
  if (unit === "Wh") return `${many(value / 1000, 2)} kWh`;
  if (unit === "money") return value.toLocaleString("en-GB", { minimumFractionDigits: 2, maximumFractionDigits: 2 });
  if (unit === "times") return `${value.toFixed(2)} ×`;
  return many(value);
}

/** What a figure is worked out from: seconds as hours, counts as they are. */
export function counted(figure: Figure, measure: MeasureInfo): string {
  return measure.counts
    .map(({ name, title, seconds }) => {
      const amount = figure.counted?.[name] ?? 0;
      return seconds ? `${title} ${many(amount / 3600, 1)} h` : `${title} ${many(amount)}`;
    })
    .join(" · ");
}
