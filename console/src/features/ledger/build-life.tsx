import type { Build, LedgerEntry } from "../../api/client";
import { clock, duration, when, width } from "../../ui/format";
import { Sheet, SheetTitle } from "../../ui/page";
import { useChanges } from "../control/queries";
import { useBuildLife } from "./queries";

interface Moment {
  at: string;
  state?: LedgerEntry["state"];
  what: string;
  took?: number;
  why?: string;
}

const spanOf = (e: LedgerEntry, now: Date) => (e.end ? Date.parse(e.end) : now.getTime()) - Date.parse(e.begin);

/** What happened to a build, from the first warming until its bed was clear: states with why, and what people changed. */
export function BuildLife({ build, now }: { build: Build; now: Date }) {
  const intervals = useBuildLife(build.id).data?.intervals ?? [];
  const changes = useChanges(build.id).data ?? [];
  if (intervals.length === 0) return null;
  const whole = intervals.reduce((sum, e) => sum + spanOf(e, now), 0) || 1;
  const moments: Moment[] = [
    ...intervals.map((e) => ({ at: e.begin, state: e.state, what: e.state, took: spanOf(e, now) / 1000, why: e.reason })),
    ...changes.map((c) => ({ at: c.at, what: c.text, why: c.by })),
  ].sort((a, b) => a.at.localeCompare(b.at));
  return (
    <Sheet>
      <SheetTitle beside={intervals[0] && `${when(intervals[0].begin, now)} to ${intervals.at(-1)!.end ? clock(intervals.at(-1)!.end!) : "now"}`}>Its life</SheetTitle>
      <div className="px-5 pb-4">
        <div className="mb-3 flex h-5 w-full gap-px overflow-hidden rounded-[3px]" aria-hidden>
          {intervals.map((e) => (
            <div key={e.begin} className="state-bar h-full min-w-0.5" data-state={e.state} title={`${e.state}, ${duration(spanOf(e, now) / 1000)}`} style={{ width: width(spanOf(e, now) / whole) }} />
          ))}
        </div>
        <ol className="m-0 max-h-80 list-none overflow-y-auto p-0 text-sm">
          {moments.map((m, i) => (
            <li key={`${m.at} ${i}`} className="grid grid-cols-[3.25rem_minmax(0,1fr)_auto] gap-x-3 border-b border-rule py-1.5 last:border-0">
              <time dateTime={m.at} className="tabular-nums text-faded">
                {clock(m.at)}
              </time>
              <span className={m.state ? "" : "pl-4"}>
                {m.state && <span className="state-bar mr-2 inline-block h-3 w-2 align-baseline" data-state={m.state} aria-hidden />}
                {m.what}
                {m.why && <span className="text-faded"> · {m.why}</span>}
              </span>
              <span className="text-right tabular-nums text-faded">{m.took === undefined ? "" : duration(m.took)}</span>
            </li>
          ))}
        </ol>
      </div>
    </Sheet>
  );
}
