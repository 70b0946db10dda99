import type { components } from "../../api/schema";

const DAY_MS = 86_400_000;

/** When the disk will be full, in words. */
export function fullIn(of: components["schemas"]["StorageShown"], now: Date): string {
  if (of.a_day == null) return "It takes two days to see how it grows.";
  if (!of.full_at) return "As it grows now, it is not full within ten years.";
  const days = (new Date(of.full_at).getTime() - now.getTime()) / DAY_MS;
  if (days < 60) return `As it grows now, it is full ${days < 2 ? "within two days" : `in ${Math.round(days)} days`}.`;
  return days < 730 ? `As it grows now, it is full in about ${Math.round(days / 30.4)} months.` : `As it grows now, it is full in about ${Math.round(days / 365)} years.`;
}
