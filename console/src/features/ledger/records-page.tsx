import { Download } from "lucide-react";
import { useState } from "react";

import type { MachineState, TurnaroundSummary, UsageRow } from "../../api/client";
import { useLive } from "../../api/live";
import { useTurnaround, useUtilisation } from "./queries";
import { clock, day, fromLocal, localInput, minutes, percent, width } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { StateLegend, StateMark } from "../../ui/state";
import { Energy } from "./energy";
import { RecordsLinks } from "./records-links";
import { WorthALook } from "./worth-a-look";
import { TimeField } from "../../ui/time-field";

const ORDER: MachineState[] = ["building", "warming", "paused", "cooling", "uncleared", "down", "service", "offline", "idle"];
const SPANS = [
  { name: "24 hours", days: 1 },
  { name: "7 days", days: 7 },
  { name: "14 days", days: 14 },
];


export function RecordsPage() {
  const { now, heard } = useLive();
  if (!heard)
    return (
      <Page title="Records">
        <Sheet>
          <Loading rows={7} />
        </Sheet>
      </Page>
    );
  return <Records now={now()} />;
}

function Records({ now: opened }: { now: Date }) {
  const { now } = useLive();
  const [span, setSpan] = useState(() => ({ from: localInput(new Date(opened.getTime() - 7 * 86400_000)), to: localInput(opened) }));
  const from = fromLocal(span.from).toISOString();
  const to = fromLocal(span.to).toISOString();
  const backwards = from >= to;
  const report = useUtilisation(from, to);
  const turnaround = useTurnaround(from, to);
  const choose = (days: number) => {
    const end = now();
    setSpan({ from: localInput(new Date(end.getTime() - days * 86400_000)), to: localInput(end) });
  };
  const csv = `/api/report/utilisation?format=csv&from=${encodeURIComponent(from)}&to=${encodeURIComponent(to)}`;
  const time = "min-h-9 w-full rounded-md border border-rule bg-sheet px-2 text-ink sm:w-52";
  return (
    <Page
      title="Records"
      beside={
        <div className="flex flex-wrap items-baseline gap-2 text-sm">
          <RecordsLinks here="/records" />
          {SPANS.map((s) => (
            <button
              key={s.name}
              type="button"
              onClick={() => choose(s.days)}
              className="min-h-9 rounded-md px-2.5 text-faded hover:bg-sunk hover:text-ink"
            >
              {s.name}
            </button>
          ))}
          <span className="flex w-full items-baseline gap-2 sm:w-auto">
            <TimeField label="From" className={time} value={span.from} change={(from) => from && setSpan({ ...span, from })} />
            <span className="text-faded">to</span>
            <TimeField label="To" className={time} value={span.to} change={(to) => to && setSpan({ ...span, to })} />
          </span>
        </div>
      }
    >
      {backwards ? (
        <Sheet>
          <Empty title="The span ends before it begins">Choose an earlier beginning or a later end.</Empty>
        </Sheet>
      ) : report.error ? (
        <Sheet>
          <Failed error={report.error} again={() => report.refetch()} />
        </Sheet>
      ) : !report.data ? (
        <Sheet>
          <Loading rows={7} />
        </Sheet>
      ) : report.data.fleet.recorded_s === 0 ? (
        <Sheet>
          <Empty title="Nothing is recorded in this span">The ledger begins when the first machine is added.</Empty>
        </Sheet>
      ) : (
        <div className={report.isPlaceholderData ? "opacity-60" : ""}>
          <Figures fleet={report.data.fleet} turnaround={turnaround.data?.fleet ?? []} />
          <WorthALook />
          <Sheet className="mb-5">
            <SheetTitle beside={`${day(from)}, ${clock(from)} to ${day(to)}, ${clock(to)}`}>Where the time went</SheetTitle>
            <div className="px-5 pb-5">
              {[...report.data.machines, report.data.fleet].map((row) => (
                <Bar key={row.name} row={row} />
              ))}
              <div className="mt-4 sm:ml-24">
                <StateLegend states={ORDER.filter((s) => (report.data.fleet.seconds[s] ?? 0) > 0)} />
              </div>
            </div>
          </Sheet>
          {turnaround.data && turnaround.data.fleet.some((r) => r.gaps > 0) && (
            <Sheet className="mb-5">
              <SheetTitle beside="from the end of a build to the start of the next">Turnaround</SheetTitle>
              <TurnaroundTable machines={turnaround.data.machines} fleet={turnaround.data.fleet} />
            </Sheet>
          )}
          <Sheet>
            <SheetTitle
              beside={
                <a href={csv} download="utilisation.csv" className="inline-flex items-center gap-1.5 text-ink">
                  <Download size={15} aria-hidden /> CSV
                </a>
              }
            >
              By machine
            </SheetTitle>
            <Table rows={report.data.machines} fleet={report.data.fleet} />
          </Sheet>
          <Energy from={from} to={to} />
        </div>
      )}
    </Page>
  );
}

function Figures({ fleet, turnaround }: { fleet: UsageRow; turnaround: TurnaroundSummary[] }) {
  const judged = fleet.good + fleet.scrap;
  const staffed = turnaround.find((t) => t.shift === "staffed");
  const figures = [
    {
      name: "turnaround",
      value: staffed?.gaps ? minutes(staffed.middle_min) : "–",
      of: staffed?.gaps ? `between builds while somebody is here; nine of ten within ${minutes(staffed.late_min)}` : "no build followed another",
    },
    { name: "utilisation", value: percent(fleet.utilisation, 1), of: "of recorded time warming or building" },
    { name: "printing", value: `${fleet.printing_h.toFixed(1)} h`, of: "all machines together" },
    { name: "good", value: String(fleet.good), of: judged ? `${percent(fleet.good / judged, 1)} of ${judged} judged` : "none judged" },
    { name: "scrap", value: String(fleet.scrap), of: fleet.unjudged ? `${fleet.unjudged} not judged yet` : "all judged" },
    { name: "filament", value: `${(fleet.grams / 1000).toFixed(2)} kg`, of: "in builds that ended" },
  ];
  return (
    <dl className="mt-0 mb-6 grid grid-cols-2 gap-x-8 gap-y-5 sm:grid-cols-3 lg:grid-cols-6">
      {figures.map((f) => (
        <div key={f.name}>
          <dt className="text-sm text-faded">{f.name}</dt>
          <dd className="m-0 font-serif text-3xl font-semibold">{f.value}</dd>
          <dd className="m-0 text-sm text-faded">{f.of}</dd>
        </div>
      ))}
    </dl>
  );
}

function Bar({ row }: { row: UsageRow }) {
  const shares = ORDER.map((state) => ({ state, share: (row.seconds[state] ?? 0) / (row.recorded_s || 1) }));
  return (
    <div className="grid grid-cols-[5rem_1fr_4rem] items-center gap-4 py-1.5 last:font-semibold">
      <span>{row.name}</span>
      <span
        className="flex h-5 overflow-hidden rounded-[3px] bg-sunk/50"
        role="img"
        aria-label={`${row.name}: ${shares
          .filter((s) => s.share > 0)
          .map((s) => `${s.state} ${percent(s.share, 1)}`)
          .join(", ")}`}
      >
        {shares.map(({ state, share }) =>
          share > 0 && state !== "idle" ? (
            <span
              key={state}
              className="state-bar h-full"
              data-state={state}
              title={`${state} ${percent(share, 1)}`}
              style={{ width: width(share) }}
            />
          ) : null,
        )}
      </span>
      <span className="text-right">{percent(row.utilisation, 1)}</span>
    </div>
  );
}

function TurnaroundTable({ machines, fleet }: { machines: TurnaroundSummary[]; fleet: TurnaroundSummary[] }) {
  const names = [...new Set(machines.map((r) => r.name))];
  const of = (name: string, shift: string) => [...machines, ...fleet].find((r) => r.name === name && r.shift === shift);
  const longest = Math.max(1, ...machines.filter((r) => r.shift === "staffed").map((r) => r.late_min));
  return (
    <div className="overflow-x-auto pb-3">
      <table className="w-full border-collapse text-sm">
        <thead className="text-faded">
          <tr className="border-b border-rule">
            <th className={`${cell} font-medium`}>Machine</th>
            <th className="w-1/3 px-3 py-2.5" />
            <th className={`${cell} font-medium`}>while somebody is here</th>
            <th className={`${cell} font-medium`}>nine of ten within</th>
            <th className={`${cell} font-medium`}>ended with nobody here</th>
            <th className={`${cell} font-medium`}>builds</th>
          </tr>
        </thead>
        <tbody>
          {[...names, "Fleet"].map((name) => {
            const here = of(name, "staffed");
            const away = of(name, "away");
            return (
              <tr key={name} className="border-b border-rule last:border-0 last:font-semibold">
                <td className={cell}>{name}</td>
                <td className="px-3">
                  {here && here.gaps > 0 && (
                    <span className="relative block h-2.5 overflow-hidden rounded-sm bg-sunk" aria-hidden>
                      <span className="absolute inset-y-0 left-0 rounded-sm bg-[var(--uncleared)]/30" style={{ width: width(Math.min(1, here.late_min / longest)) }} />
                      <span className="absolute inset-y-0 left-0 rounded-sm bg-[var(--uncleared)]" style={{ width: width(Math.min(1, here.middle_min / longest)) }} />
                    </span>
                  )}
                </td>
                <td className={cell}>{here?.gaps ? minutes(here.middle_min) : "–"}</td>
                <td className={cell}>{here?.gaps ? minutes(here.late_min) : "–"}</td>
                <td className={cell}>{away?.gaps ? minutes(away.middle_min) : "–"}</td>
                <td className={cell}>{(here?.gaps ?? 0) + (away?.gaps ?? 0)}</td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </div>
  );
}

const cell = "px-3 py-2.5 first:pl-5 first:text-left last:pr-5 text-right whitespace-nowrap";

function Table({ rows, fleet }: { rows: UsageRow[]; fleet: UsageRow }) {
  const states = ORDER.filter((s) => (fleet.seconds[s] ?? 0) > 0);
  return (
    <div className="overflow-x-auto pb-2">
      <table className="w-full border-collapse text-sm">
        <thead className="text-faded">
          <tr className="border-b border-rule">
            <th className={`${cell} font-medium`}>Machine</th>
            <th className={`${cell} font-medium`}>Printing</th>
            {states.map((s) => (
              <th key={s} className={`${cell} font-medium`}>
                <StateMark state={s} />
              </th>
            ))}
            <th className={`${cell} font-medium`}>Good</th>
            <th className={`${cell} font-medium`}>Scrap</th>
            <th className={`${cell} font-medium`}>Filament</th>
          </tr>
        </thead>
        <tbody>
          {[...rows, fleet].map((r) => (
            <tr key={r.name} className="border-b border-rule last:border-0 last:font-semibold">
              <td className={cell}>{r.name}</td>
              <td className={cell}>{r.printing_h.toFixed(1)} h</td>
              {states.map((s) => (
                <td key={s} className={cell}>
                  {percent((r.seconds[s] ?? 0) / (r.recorded_s || 1), 1)}
                </td>
              ))}
              <td className={cell}>{r.good}</td>
              <td className={cell}>{r.scrap}</td>
              <td className={cell}>{r.grams.toFixed(0)} g</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
