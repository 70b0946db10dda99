import type { BedsTogether, PlanWithForecast, StaffedSpan } from "../../api/client";
import { clock } from "../../ui/format";
import type { Axis } from "../../ui/time-axis";

const share = (x: number) => `${(x * 100).toFixed(3)}%`;

export interface Wanted {
  at: number;
  machine: string;
  what: string;
}

/** When hands will be wanted, as the plan has it: beds to clear, spools to load. */
export function wanted(plan: PlanWithForecast | undefined): Wanted[] {
  if (!plan) return [];
  const found: Wanted[] = [];
  for (const m of plan.machines) if (m.end) found.push({ at: Date.parse(m.end.likely), machine: m.machine, what: "clear" });
  for (const b of plan.builds) {
    found.push({ at: Date.parse(b.end.likely), machine: b.machine, what: `clear ${b.what}` });
    const change = [b.load, b.nozzle].filter(Boolean).join(", ");
    if (b.hands && change) found.push({ at: Date.parse(b.hands), machine: b.machine, what: `load ${change}` });
  }
  return found;
}

/** Spans of the axis when nobody is at a site (`""`: the shop's own hours). */
export function unstaffed(spans: StaffedSpan[], site: string, axis: Axis, from: number): [number, number][] {
  const mine = spans
    .filter((s) => (s.site ?? "") === site)
    .map((s) => [Date.parse(s.begin), Date.parse(s.end)] as const)
    .sort((a, b) => a[0] - b[0]);
  const found: [number, number][] = [];
  let at = Math.max(axis.begin, from);
  for (const [begin, end] of mine) {
    if (begin > at) found.push([at, Math.min(begin, axis.end)]);
    at = Math.max(at, end);
    if (at >= axis.end) break;
  }
  if (at < axis.end) found.push([at, axis.end]);
  return found.filter(([a, b]) => b > a);
}

/** The row above the machines: the hours when somebody is there, each time hands will be wanted, and where that is too
 * much at once. */
export function HandsRow({ plan, axis, now, staffed }: { plan: PlanWithForecast | undefined; axis: Axis; now: Date; staffed: StaffedSpan[] }) {
  const marks = wanted(plan).filter((w) => w.at > now.getTime() && w.at < axis.end);
  const conflicts = (plan?.conflicts ?? []).filter((c) => Date.parse(c.at) < axis.end && Date.parse(c.at) > axis.begin);
  return (
    <div className="relative h-full" role="img" aria-label={describe(marks, conflicts.length)}>
      {staffed
        .filter((s) => !s.site && Date.parse(s.end) > axis.begin && Date.parse(s.begin) < axis.end)
        .map((s) => {
          const from = Math.max(axis.begin, Date.parse(s.begin));
          const to = Math.min(axis.end, Date.parse(s.end));
          return (
            <div
              key={s.begin}
              title={`somebody is here ${clock(s.begin)} to ${clock(s.end)}`}
              className="absolute bottom-1 h-2 rounded-sm bg-ink/25"
              style={{ left: share(axis.at(from)), width: share(axis.at(to) - axis.at(from)) }}
            />
          );
        })}
      {marks.map((w, n) => (
        <span
          key={n}
          title={`${clock(new Date(w.at))} ${w.machine}: ${w.what}`}
          className="absolute bottom-3.5 h-3 w-[3px] -translate-x-1/2 rounded-sm bg-ink/80"
          style={{ left: share(axis.at(w.at)) }}
        />
      ))}
      {apart(conflicts, axis).map((c) => (
        <span
          key={c.at}
          title={c.text}
          className="absolute top-0.5 grid h-5 min-w-5 -translate-x-1/4 place-items-center rounded-full border border-alarm bg-sheet px-1 text-xs leading-none font-semibold text-alarm"
          style={{ left: share(axis.at(Date.parse(c.at))) }}
        >
          {c.machines.length}
        </span>
      ))}
    </div>
  );
}

/** Conflicts far enough from one another to be read; of those that touch, the largest. */
function apart(conflicts: BedsTogether[], axis: Axis): BedsTogether[] {
  const kept: BedsTogether[] = [];
  for (const c of [...conflicts].sort((a, b) => b.machines.length - a.machines.length))
    if (kept.every((k) => Math.abs(axis.at(Date.parse(k.at)) - axis.at(Date.parse(c.at))) > 0.03)) kept.push(c);
  return kept;
}

function describe(marks: Wanted[], conflicts: number) {
  const many = marks.length === 1 ? "Hands are wanted once" : `Hands are wanted ${marks.length} times`;
  return `${many} in the time shown${conflicts ? `; ${conflicts} times by several beds at once` : ""}`;
}
