import { useMemo, useState } from "react";
import { Link } from "react-router";

import type { PlannedBuild, LedgerEntry, Machine, MachineState, PlanWithForecast, StaffedSpan } from "../../api/client";
import { useLive, useNow } from "../../api/live";
import { useLedger } from "../ledger/queries";
import { type Group, grouped, says } from "../machines/grouping";
import { useMachines } from "../machines/queries";
import { usePlan } from "./queries";
import { clock, duration, percent, when } from "../../ui/format";
import { Frame as CameraFrame } from "../watching/camera";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { Choice } from "../../ui/choice";
import { SearchField } from "../../ui/search-field";
import { StateLegend, StateMark, STATES } from "../../ui/state";
import { makeAxis } from "../../ui/time-axis";
import { Hands } from "./next-hands";
import { HandsRow, unstaffed } from "./hands-row";
import { Since } from "../rounds/since";
import { AxisHead, AxisRules, Timeline } from "../../ui/time-line";

const SPANS = [
  { name: "3 h", past: 1, future: 2 },
  { name: "8 h", past: 3, future: 5 },
  { name: "1 day", past: 8, future: 16 },
];
const COLUMNS = "sm:grid-cols-[17rem_1fr] lg:grid-cols-[22rem_1fr]";

/** From so many machines on, rows are dense unless somebody wants pictures. */
const MANY = 30;
type Form = "tall" | "dense";

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
  const [words, setWords] = useState("");
  const rows = all.filter((m) => (shown === "all" || m.state === shown) && says(m, words));
  const [form, setForm] = useState<Form | null>(null);
  const dense = (form ?? (all.length > MANY ? "dense" : "tall")) === "dense";
  const [group, setGroup] = useState<Group>("none");
  const plan = usePlan();

  return (
    <Page
      title="Board"
      beside={
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2 text-sm">
          <SearchField label="Search the board" hint="Machine, place, file" words={words} change={setWords} />
          <Choice
            label="Rows"
            options={[
              { key: "tall", name: "with pictures" },
              { key: "dense", name: "dense" },
            ]}
            value={dense ? "dense" : "tall"}
            choose={(f) => setForm(f as Form)}
          />
          <Choice
            label="Show"
            options={["all", ...present].map((s) => ({ key: s, name: s === "all" ? `all ${all.length}` : s }))}
            value={shown}
            choose={(s) => setShown(s as MachineState | "all")}
          />
          <Choice
            label="Group"
            options={[
              { key: "none", name: "by name" },
              { key: "site", name: "by site" },
              { key: "pool", name: "by pool" },
              { key: "material", name: "by material" },
            ]}
            value={group}
            choose={(g) => setGroup(g as Group)}
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
          <Since />
          <Hands machines={all} />
          <Rows groups={grouped(rows, group, (m) => m)} ledgers={byMachine} past={chosen.past} future={chosen.future} plan={plan.data} dense={dense} />
          <div className="mt-5">
            <StateLegend states={STATES} />
          </div>
        </>
      )}
    </Page>
  );
}

function Rows(props: {
  groups: [string, Machine[]][];
  ledgers: Map<string, LedgerEntry[]>;
  past: number;
  future: number;
  plan: PlanWithForecast | undefined;
  dense: boolean;
}) {
  const { rate } = useLive();
  const now = useNow(rate > 1 ? 500 : 5000);
  const axis = makeAxis(now, props.past, props.future, 11);
  const staffed = props.plan?.staffed ?? [];
  const away = new Map<string, [number, number][]>();
  const awayAt = (site: string) => {
    if (!props.plan) return [];
    if (!away.has(site)) away.set(site, unstaffed(staffed, site, axis, now.getTime()));
    return away.get(site);
  };
  const next = useMemo(() => {
    const found = new Map<string, PlannedBuild[]>();
    for (const b of props.plan?.builds ?? []) found.set(b.machine, [...(found.get(b.machine) ?? []), b]);
    return found;
  }, [props.plan]);
  const idle = new Map((props.plan?.machines ?? []).map((m) => [m.machine, m.idle ?? ""]));
  return (
    <Sheet className="overflow-hidden">
      <div className={`hidden h-9 border-b border-rule sm:grid ${COLUMNS}`}>
        <div />
        <AxisHead axis={axis} now={now} />
      </div>
      <div className={`hidden h-11 border-b border-rule sm:grid ${COLUMNS}`}>
        <div className="flex items-center justify-between gap-3 border-r border-rule px-4">
          <span className="font-semibold">Hands</span>
          <span className="text-sm text-faded">{props.plan ? hereWords(staffed, now) : ""}</span>
        </div>
        <div className="relative">
          <AxisRules axis={axis} now={now} away={awayAt("")} />
          <HandsRow plan={props.plan} axis={axis} now={now} staffed={staffed} />
        </div>
      </div>
      {props.groups.length === 0 && <Empty title="No machine fits">Choose another state above, or search for something else.</Empty>}
      {props.groups.map(([name, machines]) => (
        <div key={name}>
          {name && <h2 className="m-0 border-b border-rule bg-sunk/50 px-4 py-1.5 text-sm font-semibold">{name}</h2>}
          <ul aria-label={name || "Machines"} className="m-0 list-none divide-y divide-rule border-b border-rule p-0 last:border-0">
            {machines.map((m) => (
              <li
                key={m.name}
                className={`relative grid grid-cols-1 [content-visibility:auto] ${props.dense ? "[contain-intrinsic-size:2.25rem]" : "[contain-intrinsic-size:5rem]"} ${COLUMNS}`}
              >
                <Head machine={m} idle={idle.get(m.name)} dense={props.dense} />
                <div className={`relative hidden sm:block ${props.dense ? "min-h-9" : "min-h-20"}`}>
                  <AxisRules axis={axis} now={now} away={awayAt(m.site ?? "")} />
                  <Timeline
                    axis={axis}
                    entries={props.ledgers.get(m.name) ?? []}
                    machine={m}
                    now={now}
                    next={next.get(m.name)}
                    low={props.dense}
                  />
                </div>
              </li>
            ))}
          </ul>
        </div>
      ))}
    </Sheet>
  );
}

/** Until when somebody is here, or from when on. */
function hereWords(staffed: StaffedSpan[], now: Date) {
  const spans = staffed.filter((s) => !s.site);
  const current = spans.find((s) => Date.parse(s.begin) <= now.getTime() && Date.parse(s.end) > now.getTime());
  if (current) {
    const always = Date.parse(current.end) - now.getTime() > 2 * 86_400_000;
    return always ? "somebody is always here" : `somebody is here until ${clock(current.end)}`;
  }
  const next = spans.find((s) => Date.parse(s.begin) > now.getTime());
  return next ? `nobody is here until ${when(next.begin, now)}` : "nobody is here";
}

/** A row's left end: frame, name, state, and how its build stands. */
function Head({ machine: m, idle = "", dense }: { machine: Machine; idle?: string; dense: boolean }) {
  const b = m.build;
  const live = b && !b.outcome;
  if (dense)
    return (
      <Link
        to={`/machines/${encodeURIComponent(m.name)}`}
        title={b ? b.file : m.reason || idle || "no build"}
        className="flex min-w-0 items-center gap-3 px-4 py-1 text-ink no-underline hover:bg-sunk/60 sm:border-r sm:border-rule"
      >
        <span className="min-w-0 flex-1 truncate font-semibold">{m.name}</span>
        <span className="w-28 shrink-0 text-sm">
          <StateMark state={m.state} />
        </span>
        <span className="w-20 shrink-0 text-right text-sm whitespace-nowrap text-faded">
          {live && b.remaining_s != null ? duration(b.remaining_s) : ""}
        </span>
      </Link>
    );
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
        <span className="flex justify-between gap-3 text-sm text-faded">
          <span className="truncate" title={b ? undefined : idle}>
            {!m.reachable ? "tender away: as last heard" : b ? b.file : m.reason || idle || "no build"}
          </span>
          {m.power?.watts != null && <span className="whitespace-nowrap">{m.power.watts.toFixed(0)} W</span>}
        </span>
      </span>
    </Link>
  );
}
