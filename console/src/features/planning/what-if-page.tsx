import { useState } from "react";

import { api, type PlannedBuild, type Outlook, type StaffedSpan, value, type WhatIf, type WhatIfAnswer } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useMachines, useModels } from "../machines/queries";
import { useOrders } from "../orders/queries";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { clock, fromLocal, percent, when } from "../../ui/format";
import { Empty, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Expected, PromiseMark } from "../../ui/promise";
import { makeAxis } from "../../ui/time-axis";
import { unstaffed } from "./hands-row";
import { AxisHead, AxisRules } from "../../ui/time-line";
import { TimeField } from "../../ui/time-field";

type Change = WhatIf["changes"][number];
type Kind = Change["kind"];

const KINDS: { kind: Kind; name: string }[] = [
  { kind: "due", name: "an order is due sooner" },
  { kind: "machine", name: "a machine works, or not" },
  { kind: "staffed", name: "somebody is here" },
  { kind: "more", name: "there are more machines" },
  { kind: "strategy", name: "planned otherwise" },
];

export function WhatIfPage() {
  const [changes, setChanges] = useState<{ change: Change; words: string }[]>([]);
  const ask = useChange((wish: Change[]) => value(api.POST("/api/what-if", { body: { changes: wish } })));
  const put = (next: typeof changes) => {
    setChanges(next);
    if (next.length) ask.mutate(next.map((c) => c.change));
    else ask.reset();
  };
  const answer = ask.data as WhatIfAnswer | undefined;
  return (
    <Page title="What if">
      <p className="mt-0 mb-5 max-w-2xl text-faded">
        Ask what would happen; it is answered from a copy of the plan, and nothing of the shop changes. Several questions hold at once.
      </p>
      <div className="grid gap-5 lg:grid-cols-[24rem_1fr] lg:items-start">
        <Sheet className="p-5">
          <Question add={(change, words) => put([...changes, { change, words }])} />
          {changes.length > 0 && (
            <ul className="mt-4 mb-0 list-none border-t border-rule p-0 pt-3">
              {changes.map((c, n) => (
                <li key={n} className="flex items-center justify-between gap-3">
                  <span>{c.words}</span>
                  <Button kind="quiet" aria-label={`Take away: ${c.words}`} onClick={() => put(changes.filter((_, i) => i !== n))}>
                    Take away
                  </Button>
                </li>
              ))}
            </ul>
          )}
        </Sheet>
        <div className="min-w-0">
          {ask.error ? (
            <Refusal error={ask.error} />
          ) : answer && changes.length ? (
            <Answer answer={answer} fresh={!ask.isPending} />
          ) : (
            <Sheet>
              <Empty title="Nothing is asked yet">Choose what would be otherwise; both plans are shown side by side.</Empty>
            </Sheet>
          )}
        </div>
      </div>
    </Page>
  );
}

/** One thing that would be otherwise. */
function Question({ add }: { add: (change: Change, words: string) => void }) {
  const [kind, setKind] = useState<Kind>("due");
  const orders = useOrders().data ?? [];
  const machines = useMachines().data ?? [];
  const models = useModels().data ?? [];
  const now = useNow(60_000);
  const [order, setOrder] = useState("");
  const [time, setTime] = useState("");
  const [until, setUntil] = useState("");
  const [machine, setMachine] = useState("");
  const [works, setWorks] = useState(false);
  const [model, setModel] = useState("");
  const [many, setMany] = useState(2);
  const [strategy, setStrategy] = useState<"first-come" | "due-first" | "hands-aware">("first-come");
  const name = orders.find((o) => String(o.id) === order)?.customer ?? "";
  const at = (text: string) => fromLocal(text).toISOString();
  const made: Record<Kind, () => [Change, string] | null> = {
    due: () => (order && time ? [{ kind: "due", order: Number(order), due: at(time) }, `${name} by ${when(at(time), now)}`] : null),
    machine: () => (machine ? [{ kind: "machine", machine, works }, `${machine} ${works ? "in work" : "out of work"}`] : null),
    staffed: () =>
      time && until && time < until
        ? [{ kind: "staffed", begin: at(time), end: at(until), site: "" }, `somebody here ${when(at(time), now)} to ${clock(at(until))}`]
        : null,
    more: () => (model ? [{ kind: "more", like: model, many }, `${many} more of ${model}`] : null),
    strategy: () => [{ kind: "strategy", strategy }, `planned ${strategy}`],
  };
  const ready = made[kind]();
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        if (ready) add(...ready);
      }}
    >
      <Field label="What if …">
        <select className={inputLook} value={kind} onChange={(e) => setKind(e.target.value as Kind)}>
          {KINDS.map((k) => (
            <option key={k.kind} value={k.kind}>
              … {k.name}
            </option>
          ))}
        </select>
      </Field>
      {kind === "due" && (
        <>
          <Field label="Order">
            <select className={inputLook} value={order} onChange={(e) => setOrder(e.target.value)}>
              <option value="">choose</option>
              {orders.map((o) => (
                <option key={o.id} value={o.id}>
                  {o.customer} (order {o.id})
                </option>
              ))}
            </select>
          </Field>
          <Field label="Due">
            <TimeField value={time} change={setTime} />
          </Field>
        </>
      )}
      {kind === "machine" && (
        <div className="grid grid-cols-2 gap-3">
          <Field label="Machine">
            <select className={inputLook} value={machine} onChange={(e) => setMachine(e.target.value)}>
              <option value="">choose</option>
              {machines.map((m) => (
                <option key={m.name}>{m.name}</option>
              ))}
            </select>
          </Field>
          <Field label="It is">
            <select className={inputLook} value={String(works)} onChange={(e) => setWorks(e.target.value === "true")}>
              <option value="false">out of work</option>
              <option value="true">in work</option>
            </select>
          </Field>
        </div>
      )}
      {kind === "staffed" && (
        <>
          <Field label="From">
            <TimeField value={time} change={setTime} />
          </Field>
          <Field label="Until">
            <TimeField value={until} change={setUntil} />
          </Field>
        </>
      )}
      {kind === "more" && (
        <div className="grid grid-cols-[5rem_1fr] gap-3">
          <Field label="How many">
            <input className={inputLook} type="number" min={1} max={100} value={many} onChange={(e) => setMany(Number(e.target.value))} />
          </Field>
          <Field label="Of which model">
            <select className={inputLook} value={model} onChange={(e) => setModel(e.target.value)}>
              <option value="">choose</option>
              {models.map((m) => (
                <option key={m.name}>{m.name}</option>
              ))}
            </select>
          </Field>
        </div>
      )}
      {kind === "strategy" && (
        <Field label="Strategy">
          <select className={inputLook} value={strategy} onChange={(e) => setStrategy(e.target.value as typeof strategy)}>
            <option value="first-come">first-come</option>
            <option value="due-first">due-first</option>
            <option value="hands-aware">hands-aware</option>
          </select>
        </Field>
      )}
      <Button kind="strong" type="submit" disabled={!ready}>
        Ask
      </Button>
    </form>
  );
}

function allDone(o: Outlook, now: Date): string {
  const but = o.cannot ? `, but for ${o.cannot === 1 ? "1 job" : `${o.cannot} jobs`} that no machine can make` : "";
  return (o.ready ? when(o.ready, now) : "nothing waits") + but;
}

function Answer({ answer: a, fresh }: { answer: WhatIfAnswer; fresh: boolean }) {
  const now = useNow(60_000);
  const then = new Map(a.then.orders.map((o) => [`${o.order} ${o.job}`, o]));
  const rows: [string, string, string][] = [
    ["in time", `${a.now.in_time} of ${a.now.due}`, `${a.then.in_time} of ${a.then.due}`],
    ["all that waits is done", allDone(a.now, now), allDone(a.then, now)],
    ["machines make parts, next 7 days", percent(a.now.productive, 1), percent(a.then.productive, 1)],
    ["spools and nozzles to change", String(a.now.changes), String(a.then.changes)],
  ];
  return (
    <div className={fresh ? "" : "opacity-60"} aria-live="polite">
      <h2 className="m-0 text-xl font-semibold">{a.question}</h2>
      <p className="mt-1 mb-4 max-w-3xl text-lg">{a.answer}</p>
      <Sheet className="mb-5 overflow-hidden">
        <div className="overflow-x-auto">
          <table className="w-full border-collapse max-sm:[&_span]:whitespace-normal">
            <thead className="text-left text-sm text-faded">
              <tr className="border-b border-rule">
                <th className="px-3 py-2 font-medium sm:px-5" />
                <th className="hidden px-3 py-2 font-medium sm:table-cell">due</th>
                <th className="px-3 py-2 font-medium">as it is</th>
                <th className="px-3 py-2 font-medium">then</th>
              </tr>
            </thead>
            <tbody>
              {a.now.orders.map((o) => {
                const t = then.get(`${o.order} ${o.job}`) ?? o;
                const due = (
                  <>
                    {o.due && o.due !== t.due && <div className="text-sm text-faded line-through">{when(o.due, now)}</div>}
                    {t.due ? when(t.due, now) : ""}
                  </>
                );
                return (
                  <tr key={`${o.order} ${o.job}`} className="border-b border-rule align-baseline">
                    <td className="px-3 py-2 sm:px-5">
                      {o.name} <span className="text-sm text-faded">{o.order ? `order ${o.order}` : `job ${o.job}`}</span>
                      {t.due && <div className="text-sm sm:hidden">due {due}</div>}
                    </td>
                    <td className="hidden px-3 py-2 whitespace-nowrap sm:table-cell">{due}</td>
                    <td className="px-3 py-2">
                      <Expected range={o.expected} now={now} /> <PromiseMark promise={o.promise} chance={o.chance} />
                    </td>
                    <td className="px-3 py-2">
                      <Expected range={t.expected} now={now} /> <PromiseMark promise={t.promise} chance={t.chance} />
                    </td>
                  </tr>
                );
              })}
              {rows.map(([name, is, would]) => (
                <tr key={name} className="border-b border-rule last:border-0">
                  <td className="px-3 py-2 text-faded sm:px-5">{name}</td>
                  <td className="hidden sm:table-cell" />
                  <td className="px-3 py-2">{is}</td>
                  <td className={`px-3 py-2 ${is === would ? "" : "font-semibold"}`}>{would}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      </Sheet>
      <div className="grid gap-5 xl:grid-cols-2">
        <Side title="As it is" outlook={a.now} staffed={a.staffed} />
        <Side title="Then" outlook={a.then} staffed={a.staffed} />
      </div>
    </div>
  );
}

/** A plan drawn: a row a machine, the next 24 hours. */
function Side({ title, outlook, staffed }: { title: string; outlook: Outlook; staffed: StaffedSpan[] }) {
  const now = useNow(30_000);
  const axis = makeAxis(now, 0.5, 23.5, 6);
  const away = unstaffed(staffed, "", axis, now.getTime());
  const rows = new Map<string, PlannedBuild[]>();
  for (const b of outlook.builds) rows.set(b.machine, [...(rows.get(b.machine) ?? []), b]);
  return (
    <Sheet className="overflow-hidden">
      <SheetTitle beside="the next day">{title}</SheetTitle>
      <div className="grid grid-cols-[6.5rem_1fr] border-t border-rule">
        <div className="h-8" />
        <div className="relative h-8">
          <AxisHead axis={axis} now={now} near={0.09} />
        </div>
        {[...rows].sort(([a], [b]) => a.localeCompare(b)).map(([machine, builds]) => (
          <div key={machine} className="col-span-2 grid grid-cols-subgrid border-t border-rule">
            <span className="truncate px-3 py-1.5 text-sm">{machine}</span>
            <div className="relative overflow-hidden">
              <AxisRules axis={axis} now={now} away={away} />
              {builds.map((b) => {
                const from = axis.at(Math.max(Date.parse(b.start.likely), axis.begin));
                const to = Math.min(1, axis.at(Date.parse(b.end.likely)));
                if (from >= 1) return null;
                return (
                  <div
                    key={`${b.job} ${b.start.likely}`}
                    className="state-bar absolute top-1/2 h-4 -translate-y-1/2 rounded-[2px]"
                    data-state="forecast"
                    title={`${b.what}: ${when(b.start.likely, now)} to ${when(b.end.likely, now)}. ${b.why}`}
                    style={{ left: `${from * 100}%`, width: `${Math.max(0.3, (to - from) * 100)}%` }}
                  />
                );
              })}
            </div>
          </div>
        ))}
      </div>
      {rows.size === 0 && <Empty title="Nothing waits">There is nothing to plan.</Empty>}
    </Sheet>
  );
}
