import type { Gravity, Notice, NoticeAct, NoticeRule } from "../../api/client";
import { when } from "../../ui/format";

export const GRAVITIES: Gravity[] = ["note", "look", "act", "urgent"];

/** How grave a notice is, in words. */
export const GRAVITY: Record<Gravity, string> = {
  note: "note",
  look: "have a look",
  act: "hands are needed",
  urgent: "urgent",
};

export const ACT: Record<NoticeAct, string> = {
  going: "I'm going",
  pause: "Pause it",
  resume: "Resume",
  "leave-out": "Leave it out, go on",
  stop: "Stop it",
  "false-alarm": "False alarm",
  missed: "The watch missed something",
};

/** What cannot be undone asks first. */
export const ASKS_FIRST: Partial<Record<NoticeAct, string>> = {
  stop: "Heaters off, head parked. What was laid down so far is lost.",
  "leave-out": "That object is missing from the next layer on; the rest is laid as before.",
};

export const asksForHands = (n: Notice) => !n.closed_at && (n.gravity === "act" || n.gravity === "urgent");

/** How a notice stands, in words. */
export function standing(n: Notice, now: Date): string {
  if (n.closed_at) return n.closed_at === n.at ? "" : `over ${when(n.closed_at, now)}${n.closed_by ? `, ${n.closed_by}` : ""}`;
  return n.taken_at ? `${n.taken_by} goes` : "";
}

const DAYS = ["Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"];
export const DAY_NAMES = DAYS;

/** When a rule speaks, in words. */
export function whenSaid(r: NoticeRule): string {
  const pace = r.pace === "daily" ? `every day at ${r.daily_at}` : r.pace === "gathered" ? `gathered, every ${r.every_min} min` : "at once";
  const days = r.days ?? [];
  const week = days.length === 7 ? "every day" : days.join() === "0,1,2,3,4" ? "Mon to Fri" : days.map((d) => DAYS[d]).join(", ");
  const during = r.during === "own-hours" ? `, ${r.begin}–${r.end} ${week}` : r.during === "shift" ? ", while somebody is there" : "";
  return `${pace}${during}${r.quiet ? `; ${r.quiet.begin}–${r.quiet.end} only what is urgent` : ""}`;
}
