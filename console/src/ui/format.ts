/** How numbers and times are written, everywhere alike. */

const two = (n: number) => String(n).padStart(2, "0");

let zone = "";
/** By the quarter of an hour, what is between a time's fields in that zone and in the browser's, ms. */
let between = new Map<number, number>();

/** Have times written, and read, in a person's own zone (IANA) from now on; empty for the browser's. */
export const readTimesIn = (name: string) => {
  if (name === zone) return;
  zone = name;
  between = new Map();
};

/** A date whose fields are those of a time in the person's zone. */
export const inZone = (at: Date | string | number): Date => {
  const time = new Date(at).getTime();
  if (!zone || Number.isNaN(time)) return new Date(time);
  const quarter = Math.floor(time / 900_000);
  let shift = between.get(quarter);
  if (shift === undefined) {
    const form = new Intl.DateTimeFormat("en-GB", { timeZone: zone, hourCycle: "h23", year: "numeric", month: "numeric", day: "numeric", hour: "numeric", minute: "numeric" });
    const part = Object.fromEntries(form.formatToParts(quarter * 900_000).map((p) => [p.type, Number(p.value)])) as Record<string, number>;
    shift = new Date(part.year!, part.month! - 1, part.day!, part.hour!, part.minute!).getTime() - quarter * 900_000;
    if (between.size > 10_000) between = new Map();
    between.set(quarter, shift);
  }
  return new Date(time + shift);
};

/** The time whose fields in the person's zone are those of a date; the way back of `inZone`. */
export const outOfZone = (fields: Date): Date => {
  const first = fields.getTime() * 2 - inZone(fields).getTime();
  return new Date(fields.getTime() - (inZone(first).getTime() - first));
};

/** What a date field gives, `2026-10-23T12:00`, as a time. */
export const fromLocal = (text: string): Date => outOfZone(new Date(text));

export const clock = (at: Date | string) => {
  const d = inZone(at);
  return `${two(d.getHours())}:${two(d.getMinutes())}`;
};

let language = "en-GB";

/** Whether the browser knows how a language (BCP 47) writes dates. */
export const writesDates = (tag: string) => {
  try {
    return Intl.DateTimeFormat.supportedLocalesOf(tag).length > 0;
  } catch {
    return false;
  }
};

/** Have dates written in the shop's language from now on. */
export const writeDatesIn = (tag: string) => {
  language = writesDates(tag) ? tag : "en-GB";
};

/** A day as a language writes it; as the shop's does without one. */
export const day = (at: Date | string, tag = language) =>
  inZone(at).toLocaleDateString(tag, { weekday: "short", day: "numeric", month: "short" });

/** Whether two times are on one day. */
export const sameDay = (one: Date | string, other: Date | string) => inZone(one).toDateString() === inZone(other).toDateString();

/** The hour alone for a time on the same day as `now`, with the day for others. */
export const when = (at: Date | string, now: Date) =>
  sameDay(at, now) ? clock(at) : `${day(at)}, ${clock(at)}`;

/** The same, shorter, for times within a few days: the weekday is enough then. */
export const soon = (at: Date | string, now: Date) => {
  const far = Math.abs(new Date(at).getTime() - now.getTime()) > 5 * 86_400_000;
  const weekday = inZone(at).toLocaleDateString(language, { weekday: "short" });
  return far || sameDay(at, now) ? when(at, now) : `${weekday} ${clock(at)}`;
};

export function duration(seconds: number): string {
  if (seconds < 60) return `${Math.max(0, Math.round(seconds))} s`;
  const minutes = Math.round(seconds / 60);
  return minutes < 60 ? `${minutes} min` : `${Math.floor(minutes / 60)} h ${two(minutes % 60)} min`;
}

export const percent = (share: number, digits = 0) => `${(share * 100).toFixed(digits)} %`;
/** A share as CSS wants a width. */
export const width = (share: number) => `${(share * 100).toFixed(3)}%`;
export const size = (bytes: number) => (bytes >= 1e9 ? `${(bytes / 1e9).toFixed(2)} GB` : bytes >= 1e6 ? `${(bytes / 1e6).toFixed(1)} MB` : `${(bytes / 1e3).toFixed(bytes === 0 ? 0 : 1)} kB`);
/** Grams of a length (mm) of filament of a density (g/cm³) and diameter (mm). */
export const grams = (mm: number, density: number, diameter: number) => `${(((Math.PI / 4) * diameter ** 2 * mm * density) / 1000).toFixed(1)} g`;
export const metres = (mm: number) => `${(mm / 1000).toFixed(2)} m`;
export const degrees = (c: number | null | undefined) => (c == null ? "–" : `${c.toFixed(0)} °C`);
/** A length of time as people say it: minutes, then hours. */
export const minutes = (min: number) => (min < 90 ? `${Math.round(min)} min` : `${(min / 60).toFixed(1)} h`);
/** What a date field takes and gives, in the person's zone. */
export const localInput = (at: Date) => {
  const d = inZone(at);
  return new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
};
export const sum = (values: Iterable<number>) => [...values].reduce((a, b) => a + b, 0);
