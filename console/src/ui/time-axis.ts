import { inZone, outOfZone } from "./format";

/** The board's time axis: places in time as shares of its width. */
export interface Axis {
  begin: number;
  end: number;
  /** 0 to 1; may lie outside for times off the axis. */
  at: (time: number) => number;
  ticks: { time: number; label: string; midnight: boolean }[];
}

const MINUTE = 60_000;
const STEPS = [15, 30, 60, 120, 180, 360].map((m) => m * MINUTE);

/** An axis of `pastH` hours before now and `futureH` after, with at most `most` ticks at round local times. */
export function makeAxis(now: Date, pastH: number, futureH: number, most: number): Axis {
  const begin = now.getTime() - pastH * 60 * MINUTE;
  const end = now.getTime() + futureH * 60 * MINUTE;
  const step = STEPS.find((s) => (end - begin) / s <= most) ?? STEPS.at(-1)!;
  const midnight = outOfZone(new Date(inZone(begin).setHours(0, 0, 0, 0))).getTime();
  const ticks = [];
  for (let time = midnight + Math.ceil((begin - midnight) / step) * step; time <= end; time += step) {
    const d = inZone(time);
    const label = `${String(d.getHours()).padStart(2, "0")}:${String(d.getMinutes()).padStart(2, "0")}`;
    ticks.push({ time, label, midnight: d.getHours() === 0 && d.getMinutes() === 0 });
  }
  return { begin, end, at: (time) => (time - begin) / (end - begin), ticks };
}
