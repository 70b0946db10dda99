import type { PromiseWord, TimeRange } from "../api/client";
import { clock, day, sameDay as onOneDay, soon } from "./format";

const WORDS: Record<PromiseWord, string> = {
  done: "done",
  none: "",
  "in time": "in time",
  "at risk": "at risk",
  late: "late",
  unknown: "cannot finish",
};
const STRONG: PromiseWord[] = ["at risk", "late", "unknown"];

interface Promised {
  promise: PromiseWord | undefined;
  /** How likely it is in time, 0 to 1. */
  chance?: number | null | undefined;
  /** Since when, and what has changed it. */
  since?: string | null | undefined;
  why?: string | undefined;
}

/** How something stands against its due time: a mark that differs by shape, and the word. */
export function PromiseMark({ promise, chance, since, why }: Promised) {
  const word = promise ?? "none";
  if (word === "none") return null;
  const share = word !== "done" && chance != null ? `, ${Math.round(chance * 100)} of 100` : "";
  return (
    <span
      title={why && since ? `Since ${day(since)}, ${clock(since)}: ${why}.` : undefined}
      className={`inline-flex items-center gap-1.5 text-sm whitespace-nowrap ${STRONG.includes(word) ? "font-semibold" : ""}`}
      style={{ color: `var(--promise-${word.replace(" ", "-")})` }}
    >
      <Shape promise={word} />
      {WORDS[word]}
      {share}
    </span>
  );
}

function Shape({ promise }: { promise: PromiseWord }) {
  const common = { width: 11, height: 11, viewBox: "0 0 12 12", "aria-hidden": true } as const;
  if (promise === "in time" || promise === "done")
    return (
      <svg {...common}>
        <circle cx="6" cy="6" r="5" fill="currentColor" />
      </svg>
    );
  if (promise === "at risk")
    return (
      <svg {...common}>
        <circle cx="6" cy="6" r="4.6" fill="none" stroke="currentColor" strokeWidth="1.6" />
        <path d="M6 1.4 A4.6 4.6 0 0 0 6 10.6 Z" fill="currentColor" />
      </svg>
    );
  return (
    <svg {...common}>
      <path d="M6 0.8 L11.4 11 L0.6 11 Z" fill="currentColor" />
    </svg>
  );
}

/** When something is expected: the middle, and between what. */
export function Expected({ range, now }: { range: TimeRange | null | undefined; now: Date }) {
  if (!range) return <span className="text-alarm">not as things are</span>;
  return (
    <span className="whitespace-nowrap">
      {soon(range.likely, now)} <span className="text-sm text-faded">({between(range, now)})</span>
    </span>
  );
}

export function between(range: TimeRange, now: Date) {
  const sameDay = onOneDay(range.early, range.late);
  return sameDay ? `${clock(range.early)}–${clock(range.late)}` : `${soon(range.early, now)} – ${soon(range.late, now)}`;
}
