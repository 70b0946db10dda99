import type { LedgerEntry, Machine } from "../../api/client";
import { clock, duration } from "../../ui/format";
import type { Axis } from "./axis";

const share = (x: number) => `${(x * 100).toFixed(3)}%`;

/** One machine's past, as the ledger has it, the rest of its build, and what is not known yet. */
export function Timeline({ axis, entries, machine, now }: { axis: Axis; entries: LedgerEntry[]; machine: Machine; now: Date }) {
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
      {expected && expected > now.getTime() && (
        <>
          <div
            className="state-bar absolute top-1/2 h-5 -translate-y-1/2 rounded-r-[3px]"
            data-state="forecast"
            title={`${machine.build?.file}: expected to end at ${clock(new Date(expected))}`}
            style={{ left: share(nowAt), width: share(Math.min(axis.at(expected), 1) - nowAt) }}
          />
          <span
            className="absolute top-1/2 -translate-y-1/2 pl-2 text-sm whitespace-nowrap text-faded"
            style={{ left: share(Math.min(axis.at(expected), 0.9)) }}
          >
            {clock(new Date(expected))}
          </span>
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

export function AxisRules({ axis, now }: { axis: Axis; now: Date }) {
  return (
    <div aria-hidden className="pointer-events-none absolute inset-0">
      {axis.ticks.map((t) => (
        <div key={t.time} className="absolute inset-y-0 w-px bg-rule/70" style={{ left: share(axis.at(t.time)) }} />
      ))}
      <div className="absolute inset-y-0 w-0.5 -translate-x-1/2 bg-brass" style={{ left: share(axis.at(now.getTime())) }} />
    </div>
  );
}
