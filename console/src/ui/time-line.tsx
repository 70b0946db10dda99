import type { PlannedBuild, LedgerEntry, Machine } from "../api/client";
import { clock, duration } from "./format";
import type { Axis } from "./time-axis";

const share = (x: number) => `${(x * 100).toFixed(3)}%`;

/** One machine's past, as the ledger has it, the rest of its build, and what the plan has it build next. */
export function Timeline({
  axis,
  entries,
  machine,
  now,
  next = [],
  low = false,
}: {
  axis: Axis;
  entries: LedgerEntry[];
  machine: Machine;
  now: Date;
  next?: PlannedBuild[];
  /** There is no room above the bars to say when the build will end. */
  low?: boolean;
}) {
  const expected = machine.build?.expected_end ? Date.parse(machine.build.expected_end) : null;
  const nowAt = axis.at(now.getTime());
  return (
    <div className="relative h-full overflow-hidden">
      {entries.map((e) => {
        const from = Math.max(axis.begin, Date.parse(e.begin));
        const to = Math.min(e.end ? Date.parse(e.end) : now.getTime(), now.getTime());
        if (to <= axis.begin || to <= from) return null;
        const took = (e.end ? Date.parse(e.end) : now.getTime()) - Date.parse(e.begin);
        return (
          <div
            key={e.begin}
            className="state-bar absolute top-1/2 h-5 -translate-y-1/2"
            data-state={e.state}
            title={`${e.state}, ${clock(e.begin)} to ${e.end ? clock(e.end) : "now"} (${duration(took / 1000)})`}
            style={{ left: share(axis.at(from)), width: share(Math.max(axis.at(to) - axis.at(from), 0.0012)) }}
          />
        );
      })}
      {next.map((b) => {
        const from = Math.max(Date.parse(b.start.likely), now.getTime());
        const to = Math.min(Date.parse(b.end.likely), axis.end);
        // what the plan had next may have begun since: its bar is the build's own then
        if (to <= from || from > axis.end || (expected && Date.parse(b.start.likely) < expected)) return null;
        const width = axis.at(to) - axis.at(from);
        const first = [b.load, b.nozzle].filter(Boolean).join(" and ");
        return (
          <div
            key={`${b.job} ${b.start.likely}`}
            className="state-bar absolute top-1/2 flex h-5 -translate-y-1/2 items-center overflow-hidden rounded-[3px] px-1.5"
            data-state="planned"
            title={`${b.what}, job ${b.job}: ${clock(b.start.likely)} to ${clock(b.end.likely)} (${clock(b.end.early)}–${clock(b.end.late)}). ${b.why}${first ? `. First: ${first}` : ""}`}
            style={{ left: share(axis.at(from)), width: share(width) }}
          >
            {width > 0.05 && <span className="truncate text-xs text-faded">{b.what}</span>}
          </div>
        );
      })}
      {expected && expected > now.getTime() && (
        <>
          <div
            className="state-bar absolute top-1/2 h-5 -translate-y-1/2 rounded-r-[3px]"
            data-state="forecast"
            title={`${machine.build?.file}: expected to end at ${clock(new Date(expected))}`}
            style={{ left: share(nowAt), width: share(Math.min(axis.at(expected), 1) - nowAt) }}
          />
          {!low && axis.at(expected) < 0.985 && (
            <span
              className={`absolute text-xs whitespace-nowrap text-faded ${next.length ? "top-1 -translate-x-1/2" : "top-1/2 -translate-y-1/2 pl-2"}`}
              style={{ left: share(Math.min(axis.at(expected), 0.95)) }}
            >
              {clock(new Date(expected))}
            </span>
          )}
        </>
      )}
    </div>
  );
}

/** Hours along the top; none so `near` to now (a share of the width) that the two would touch. */
export function AxisHead({ axis, now, near = 0.045 }: { axis: Axis; now: Date; near?: number }) {
  const nowAt = axis.at(now.getTime());
  return (
    <div className="relative h-full text-xs text-faded">
      {axis.ticks
        .filter((t) => Math.abs(axis.at(t.time) - nowAt) > near)
        .map((t) => (
          <span
            key={t.time}
            className={`absolute bottom-1.5 -translate-x-1/2 ${t.midnight ? "font-semibold text-ink" : ""}`}
            style={{ left: share(axis.at(t.time)) }}
          >
            {t.label}
          </span>
        ))}
      <span
        className="absolute bottom-1 -translate-x-1/2 rounded bg-brass px-1.5 py-0.5 font-semibold text-ground"
        style={{ left: share(nowAt) }}
      >
        {clock(now)}
      </span>
    </div>
  );
}

/** Hour lines, now, and shade over the hours to come without hands. */
export function AxisRules({ axis, now, away = [] }: { axis: Axis; now: Date; away?: [number, number][] }) {
  return (
    <div aria-hidden className="pointer-events-none absolute inset-0">
      {away.map(([from, to]) => (
        <div
          key={from}
          className="absolute inset-y-0 bg-sunk/70"
          style={{ left: share(axis.at(from)), width: share(axis.at(to) - axis.at(from)) }}
        />
      ))}
      {axis.ticks.map((t) => (
        <div key={t.time} className="absolute inset-y-0 w-px bg-rule/70" style={{ left: share(axis.at(t.time)) }} />
      ))}
      <div className="absolute inset-y-0 w-0.5 -translate-x-1/2 bg-brass" style={{ left: share(axis.at(now.getTime())) }} />
    </div>
  );
}
