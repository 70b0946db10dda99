import { useState } from "react";
import { Link } from "react-router";

import type { components } from "../../api/schema";
import { useLive } from "../../api/live";
import { day, percent, width } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { useWorth } from "./queries";
import { RecordsLinks } from "./records-links";

type Outcome = components["schemas"]["MonthOutcome"];
type Worth = components["schemas"]["Worth"];

const PERIODS = [7, 14, 28, 56];

/** What the work of the last weeks waited for, and what a machine or an hour of hands would have made of them. */
export function WorthPage() {
  const { now, heard } = useLive();
  return (
    <Page
      title="Is it worth a machine?"
      beside={
        <span className="flex gap-4 text-sm">
          <RecordsLinks here="/records/worth" />
          <Link to="/what-if" className="text-faded">
            What if, from now on
          </Link>
        </span>
      }
    >
      {heard ? (
        <Known opened={now()} />
      ) : (
        <Sheet>
          <Loading rows={5} />
        </Sheet>
      )}
    </Page>
  );
}

function Known({ opened }: { opened: Date }) {
  const [days, setDays] = useState(28);
  const [end] = useState(opened);
  const found = useWorth(new Date(end.getTime() - days * 86_400_000).toISOString(), end.toISOString());
  return (
    <>
      <div className="mb-4 flex gap-1.5 text-sm" role="group" aria-label="Period">
        {PERIODS.map((some) => (
          <button key={some} type="button" aria-pressed={some === days} onClick={() => setDays(some)} className={`min-h-8 rounded-md px-2.5 ${some === days ? "bg-ink text-ground" : "bg-sunk text-ink"}`}>
            last {some} days
          </button>
        ))}
      </div>
      {found.error ? (
        <Sheet>
          <Failed error={found.error} again={() => found.refetch()} />
        </Sheet>
      ) : !found.data ? (
        <Sheet>
          <Loading rows={6} />
        </Sheet>
      ) : found.data.builds === 0 ? (
        <Sheet>
          <Empty title="Nothing was built in that time">Choose a longer one.</Empty>
        </Sheet>
      ) : (
        <Answer worth={found.data} />
      )}
    </>
  );
}

function Answer({ worth: w }: { worth: Worth }) {
  const causes = [
    { name: "machines", hours: w.machines_h, state: "building", says: "all that fit were at work" },
    { name: "hands", hours: w.hands_h, state: "uncleared", says: "one that fits only needed somebody" },
    { name: "something else", hours: w.other_h, state: "idle", says: "one was free: another spool was loaded, or it was held" },
  ];
  const whole = Math.max(1e-9, w.machines_h + w.hands_h + w.other_h);
  return (
    <>
      <p className="mt-0 mb-5 max-w-3xl text-lg">{w.answer}</p>
      <Sheet className="mb-5">
        <SheetTitle beside={`${w.builds.toLocaleString("en-GB")} builds of ${w.jobs} jobs, ${day(w.begin)} to ${day(w.end)}`}>What work waited for</SheetTitle>
        <div className="px-5 pb-5">
          <div className="flex h-5 overflow-hidden rounded-sm" aria-hidden>
            {causes.map((c) => (
              <div key={c.name} className="state-bar" data-state={c.state} style={{ width: width(c.hours / whole) }} />
            ))}
          </div>
          <ul className="m-0 mt-3 grid list-none gap-x-8 gap-y-2 p-0 sm:grid-cols-3">
            {causes.map((c) => (
              <li key={c.name}>
                <span className="state-bar mr-2 inline-block h-3 w-3 rounded-sm" data-state={c.state} aria-hidden />
                <span className="font-semibold">{percent(c.hours / whole)}</span> {c.name} <span className="block text-sm text-faded">{Math.round(c.hours).toLocaleString("en-GB")} h: {c.says}</span>
              </li>
            ))}
          </ul>
        </div>
      </Sheet>
      <Sheet className="overflow-hidden">
        <SheetTitle beside="planned over the same weeks, with the same work">What would have helped</SheetTitle>
        <div className="overflow-x-auto pb-2">
          <table className="w-full border-collapse text-sm">
            <thead className="text-faded">
              <tr className="border-b border-rule">
                {["", "Builds", "", "A build waits", "", "In time", "Beds wait"].map((name, n) => (
                  <th key={n} className={`${cell} font-medium`}>
                    {name}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              <Row name="as it was" outcome={w.recorded} />
              <Row name="as the planner would have had it" outcome={w.planned} />
              {w.scenarios.map((s) => (
                <Row key={s.name} name={s.text} outcome={s.outcome} beside={w.planned} />
              ))}
            </tbody>
          </table>
        </div>
        <p className="mx-5 mt-1 mb-4 text-sm text-faded">
          The planner knows what will come, and takes the right spool to be loaded; so compare its rows with each other, not with what was.
        </p>
      </Sheet>
    </>
  );
}

const cell = "px-3 py-2 text-right whitespace-nowrap first:pl-5 first:text-left first:whitespace-normal last:pr-5";

function Row({ name, outcome: o, beside }: { name: string; outcome: Outcome; beside?: Outcome }) {
  const more = beside ? o.builds - beside.builds : 0;
  const sooner = beside ? beside.wait_h - o.wait_h : 0;
  const signed = (value: number, digits: number) => `${value >= 0 ? "+" : "−"}${Math.abs(value).toFixed(digits)}`;
  const look = (good: number) => (Math.abs(good) < 0.05 ? "text-faded" : good > 0 ? "font-semibold text-ink" : "text-alarm");
  return (
    <tr className="border-b border-rule last:border-0">
      <td className={cell}>{name}</td>
      <td className={cell}>{o.builds.toLocaleString("en-GB")}</td>
      <td className={`${cell} ${look(more)}`}>{beside ? signed(more, 0) : ""}</td>
      <td className={cell}>{o.wait_h.toFixed(1)} h</td>
      <td className={`${cell} ${look(sooner)}`}>{beside ? `${signed(-sooner, 1)} h` : ""}</td>
      <td className={cell}>{o.due ? `${o.in_time} of ${o.due}` : "–"}</td>
      <td className={cell}>{Math.round(o.beds_h).toLocaleString("en-GB")} h</td>
    </tr>
  );
}
