import { useSearchParams, Link } from "react-router";

import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { inputLook } from "../../ui/dialog";
import { minutes, when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { useMachines } from "../machines/queries";
import { type UpkeepDone, type UpkeepLogEntry, useLateness, useUpkeepLog } from "./queries";
import { UpkeepLinks } from "./upkeep-links";

/** What was done at the machines over their lives, and whether faults follow what is done late. */
export function UpkeepLogPage() {
  const [address, setAddress] = useSearchParams();
  const machine = address.get("machine") ?? "";
  const machines = useMachines().data ?? [];
  const log = useUpkeepLog(machine);
  const now = useNow(60_000);
  return (
    <Page title="Upkeep" beside={<UpkeepLinks />}>
      <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)] lg:items-start">
        <Sheet className="min-w-0">
          <SheetTitle
            beside={
              <select aria-label="Machine" className={inputLook} value={machine} onChange={(e) => setAddress(e.target.value ? { machine: e.target.value } : {})}>
                <option value="">all machines</option>
                {machines.map((m) => (
                  <option key={m.name}>{m.name}</option>
                ))}
              </select>
            }
          >
            {machine ? `The life of ${machine}` : "What was done"}
          </SheetTitle>
          {log.error ? (
            <Failed error={log.error} again={() => log.refetch()} />
          ) : !log.data ? (
            <Loading rows={6} />
          ) : log.data.length === 0 ? (
            <Empty title="Nothing yet">What is done at the machines stands here, with who did it and what they found{machine ? "; faults too" : ""}.</Empty>
          ) : (
            <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
              {log.data.map((one, n) => (
                <Entry key={`${one.at} ${n}`} entry={one} alone={Boolean(machine)} now={now} />
              ))}
            </ul>
          )}
          {log.hasNextPage && (
            <p className="m-0 px-5 pb-4">
              <Button asked={log.isFetchingNextPage} onClick={() => log.fetchNextPage()}>
                Older ones
              </Button>
            </p>
          )}
        </Sheet>
        <Late />
      </div>
    </Page>
  );
}

export function Entry({ entry: e, alone, now }: { entry: UpkeepLogEntry; alone: boolean; now: Date }) {
  return (
    <li className="grid grid-cols-[8.5rem_1fr] gap-x-4 px-5 py-2">
      <span className="text-sm text-faded">{when(e.at, now)}</span>
      <span className="min-w-0">
        {!alone && (
          <Link to={`/machines/${e.machine}`} className="mr-2 font-semibold">
            {e.machine}
          </Link>
        )}
        {e.done ? <Done done={e.done} /> : <Fault entry={e} />}
      </span>
    </li>
  );
}

function Fault({ entry: e }: { entry: UpkeepLogEntry }) {
  return (
    <>
      <span className="text-alarm">went down: {e.fault}</span>
      <span className="block text-sm text-faded">{e.lasted_min == null ? "it still is" : `for ${minutes(e.lasted_min)}`}</span>
    </>
  );
}

function Done({ done: d }: { done: UpkeepDone }) {
  const facts = [
    d.part && `new ${d.part}${d.worn ? "" : ", the old one was not worn out"}`,
    d.parts.length > 0 && `used ${d.parts.join(", ")}`,
    d.minutes != null && `took ${minutes(d.minutes)}`,
    d.late != null && d.late > 1.005 && `${Math.round((d.late - 1) * 100)} % late`,
    `by ${d.by}`,
  ].filter(Boolean);
  return (
    <>
      {d.name}
      {d.value != null && (
        <span className="font-semibold">
          : {d.value} {d.unit}
        </span>
      )}
      {d.note && <span className="block">{d.note}</span>}
      <span className="block text-sm text-faded">
        {facts.join(" · ")}
        {d.photo && (
          <>
            {" · "}
            <a href={`/api/upkeep/done/${d.id}/photo`} target="_blank" rel="noreferrer">
              photo
            </a>
          </>
        )}
      </span>
    </>
  );
}

/** Whether being late costs: faults while a task was overdue beside the rest of the time. */
function Late() {
  const late = useLateness();
  if (!late.data || late.data.length === 0) return null;
  const cell = "px-3 py-2 text-right align-top first:pl-5 first:text-left last:pr-5";
  return (
    <Sheet className="min-w-0 overflow-hidden">
      <SheetTitle>How late, and what followed</SheetTitle>
      <div className="overflow-x-auto">
        <table className="w-full border-collapse text-sm">
          <thead className="text-faded">
            <tr className="border-b border-rule">
              {["", "Done", "Late", "Faults, overdue", "else"].map((name) => (
                <th key={name} className={`${cell} font-medium`}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {late.data.map(({ task, name, lateness: l }) => (
              <tr key={task} className="border-b border-rule last:border-0">
                <td className={cell}>{name}</td>
                <td className={cell}>{l.times}</td>
                <td className={cell}>
                  {l.late}
                  {l.late > 0 && <span className="block whitespace-nowrap text-faded">by {l.days < 2 ? `${Math.round(24 * l.days)} h` : `${l.days.toFixed(1)} days`}</span>}
                </td>
                <td className={cell}>{l.faults_overdue == null ? "–" : l.faults_overdue.toFixed(1)}</td>
                <td className={cell}>{l.faults_else == null ? "–" : l.faults_else.toFixed(1)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="m-0 px-5 py-3 text-sm text-faded">The last hundred times of each. Faults are how often a machine went down in 100 days: while the task was overdue, and else.</p>
    </Sheet>
  );
}
