import { clock, day, fromLocal, localInput } from "../../ui/format";
import type { components } from "../../api/schema";

export type BuildSearch = components["schemas"]["BuildSearch"];

/** What links from elsewhere narrow the list by: shown as what can be taken away. */
export const NAMED: Record<string, string> = {
  model: "model",
  site: "site",
  pool: "pool",
  part: "part",
  file: "file",
  revision: "revision",
  job: "job",
  order: "order",
  customer: "customer",
  material: "material",
  colour: "colour",
  spool: "spool",
  nozzle_mm: "nozzle, mm",
  scrap_reason: "scrapped as",
  stop_reason: "stopped because",
  person: "judged by",
  tag: "tag",
  group: "machines tagged",
  ended_from: "ended from",
  ended_to: "ended before",
  weekday: "ended on a",
  hour: "ended in the hour from",
  shift: "ended while",
};
const WEEKDAYS = ["", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

/** What a name that narrows the list says, as people read it. */
export function wordOf(name: string, said: string): string {
  if (name === "weekday") return WEEKDAYS[Number(said)] ?? said;
  if (name === "hour") return `${said.padStart(2, "0")}:00`;
  if (name === "shift") return said === "staffed" ? "somebody was there" : "nobody was there";
  if (TIMES.includes(name)) return `${day(said)}, ${clock(said)}`;
  return said;
}
export const ASKED = ["search", "machine", "verdict", "outcome", "days", "begin", "end", "sort", ...Object.keys(NAMED)];
const TIMES = ["begin", "end", "ended_from", "ended_to"];

/** What is asked of the service, as the page's address has it. */
export function askedOf(get: (name: string) => string): Record<string, string> {
  const said = Object.fromEntries(ASKED.map((name) => [name, get(name)]).filter(([, word]) => word));
  for (const name of TIMES) if (said[name]) said[name] = fromLocal(said[name]).toISOString();
  return said;
}

/** The page's address for what was saved: every name, so that what was asked before goes. */
export function addressOf(asked: BuildSearch): Record<string, string> {
  const said = asked as Record<string, unknown>;
  const word = (name: string) => {
    const value = said[name];
    if (value == null || value === false || (name === "sort" && value === "newest")) return "";
    return TIMES.includes(name) ? localInput(new Date(`${value}`)) : `${value}`;
  };
  return Object.fromEntries(ASKED.map((name) => [name, word(name)]));
}
