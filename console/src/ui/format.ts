/** How numbers and times are written, everywhere alike. */

const two = (n: number) => String(n).padStart(2, "0");

export const clock = (at: Date | string) => {
  const d = new Date(at);
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
  new Date(at).toLocaleDateString(tag, { weekday: "short", day: "numeric", month: "short" });

/** The hour alone for a time on the same day as `now`, with the day for others. */
export const when = (at: Date | string, now: Date) =>
  new Date(at).toDateString() === now.toDateString() ? clock(at) : `${day(at)}, ${clock(at)}`;

/** The same, shorter, for times within a few days: the weekday is enough then. */
export const soon = (at: Date | string, now: Date) => {
  const far = Math.abs(new Date(at).getTime() - now.getTime()) > 5 * 86_400_000;
  const weekday = new Date(at).toLocaleDateString(language, { weekday: "short" });
  return far || new Date(at).toDateString() === now.toDateString() ? when(at, now) : `${weekday} ${clock(at)}`;
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
/** What a date field of this browser takes and gives, in its own zone. */
export const localInput = (at: Date) => new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
export const sum = (values: Iterable<number>) => [...values].reduce((a, b) => a + b, 0);
