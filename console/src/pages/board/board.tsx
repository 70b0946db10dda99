import { useMemo, useState } from "react";
import { Link } from "react-router";

import type { LedgerEntry, Machine, MachineState } from "../../api/client";
import { useLive, useNow } from "../../api/live";
import { useLedger, useMachines } from "../../api/queries";
import { duration, percent } from "../../ui/format";
import { Frame as CameraFrame } from "../../ui/camera";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { StateLegend, StateMark, STATES } from "../../ui/state";
import { makeAxis } from "./axis";
import { Hands } from "./hands";
import { AxisHead, AxisRules, Timeline } from "./timeline";

const SPANS = [
  { name: "3 h", past: 1.5, future: 1.5 },
  { name: "8 h", past: 5, future: 3 },
  { name: "1 day", past: 20, future: 6 },
];
const COLUMNS = "sm:grid-cols-[17rem_1fr] lg:grid-cols-[22rem_1fr]";

export function BoardPage() {
  const machines = useMachines();
  const [span, setSpan] = useState(1);
  const [shown, setShown] = useState<MachineState | "all">("all");
  const chosen = SPANS[span]!;
  const ledger = useLedger(chosen.past + 1);
  const byMachine = useMemo(() => {
    const rows = new Map<string, LedgerEntry[]>();
    for (const e of ledger.data ?? []) rows.set(e.machine, [...(rows.get(e.machine) ?? []), e]);
    return rows;
  }, [ledger.data]);
  const all = machines.data ?? [];
  const present = STATES.filter((s) => all.some((m) => m.state === s));
  const rows = all.filter((m) => shown === "all" || m.state === shown);

  return (
    <Page
      title="Board"
      beside={
        <div className="flex flex-wrap gap-x-6 gap-y-2 text-sm">
          <Choice
            label="Show"
            options={["all", ...present].map((s) => ({ key: s, name: s === "all" ? `all ${all.length}` : s }))}
            value={shown}
            choose={(s) => setShown(s as MachineState | "all")}
          />
          <Choice
            label="Span"
            options={SPANS.map((s, i) => ({ key: String(i), name: s.name }))}
            value={String(span)}
            choose={(i) => setSpan(Number(i))}
          />
        </div>
      }
    >
      {machines.error ? (
        <Failed error={machines.error} again={() => machines.refetch()} />
      ) : machines.isPending ? (
        <Sheet>
          <Loading rows={6} height="h-20" />
        </Sheet>
      ) : all.length === 0 ? (
        <Sheet>
          <Empty title="No machines yet">
            Add the first one: <code>chronarch machines add NAME --model … --link tcp://…</code>
          </Empty>
        </Sheet>
      ) : (
        <>
          <Hands machines={all} />
          <Rows machines={rows} ledgers={byMachine} past={chosen.past} future={chosen.future} />
          <div className="mt-5">
            <StateLegend states={STATES} />
          </div>
        </>
      )}
    </Page>
  );
}

function Choice(props: {
  label: string;
  options: { key: string; name: string }[];
  value: string;
  choose: (key: string) => void;
}) {
  return (
    <div role="group" aria-label={props.label} className="flex items-center gap-1">
      {props.options.map((o) => (
        <button
          key={o.key}
          type="button"
          aria-pressed={o.key === props.value}
          onClick={() => props.choose(o.key)}
          className="min-h-8 rounded-md px-2.5 text-faded hover:text-ink aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink"
        >
          {o.name}
        </button>
      ))}
    </div>
  );
}

function Rows(props: { machines: Machine[]; ledgers: Map<string, LedgerEntry[]>; past: number; future: number }) {
  const { rate } = useLive();
  const now = useNow(rate > 1 ? 500 : 5000);
  const axis = makeAxis(now, props.past, props.future, 11);
  return (
    <Sheet className="overflow-hidden">
      <div className={`hidden h-9 border-b border-rule sm:grid ${COLUMNS}`}>
        <div />
        <AxisHead axis={axis} now={now} />
      </div>
      {props.machines.length === 0 && <Empty title="None in this state">Choose another state above.</Empty>}
      <ul className="m-0 list-none divide-y divide-rule p-0">
        {props.machines.map((m) => (
          <li key={m.name} className={`relative grid grid-cols-1 [contain-intrinsic-size:5rem] [content-visibility:auto] ${COLUMNS}`}>
            <Head machine={m} />
            <div className="relative hidden min-h-20 sm:block">
              <AxisRules axis={axis} now={now} />
              <Timeline axis={axis} entries={props.ledgers.get(m.name) ?? []} machine={m} now={now} />
            </div>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

/** A row's left end: frame, name, state, and how its build stands. */
function Head({ machine: m }: { machine: Machine }) {
  const b = m.build;
  const live = b && !b.outcome;
  return (
    <Link
      to={`/machines/${encodeURIComponent(m.name)}`}
      className="flex items-center gap-4 px-4 py-2.5 text-ink no-underline hover:bg-sunk/60 sm:border-r sm:border-rule"
    >
      <CameraFrame machine={m} className="h-14 w-[4.65rem] rounded" />
      <span className="min-w-0 flex-1">
        <span className="flex items-baseline justify-between gap-3">
          <span className="text-base font-semibold">{m.name}</span>
          {live ? <span className="font-semibold">{percent(b.progress ?? 0)}</span> : null}
        </span>
        <span className="flex items-center justify-between gap-3">
          <StateMark state={m.state} />
          {live && b.remaining_s != null && (
            <span className="text-sm whitespace-nowrap text-faded">{duration(b.remaining_s)} left</span>
          )}
        </span>
        <span className="block truncate text-sm text-faded">
          {!m.reachable ? "tender away: as last heard" : b ? b.file : m.reason || "no build"}
        </span>
      </span>
    </Link>
  );
}
