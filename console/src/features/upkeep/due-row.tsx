import { useState } from "react";
import { Link } from "react-router";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { minutes, soon, width } from "../../ui/format";
import { Refusal } from "../../ui/page";
import { DoneDialog } from "./done-dialog";
import type { DueTask } from "./queries";

/** One task at one machine: how much is used, when it is due, and what may be done about it here. */
export function DueRow({ due: d, alone = false }: { due: DueTask; alone?: boolean }) {
  const now = useNow(30_000);
  const [doing, setDoing] = useState(false);
  const keep = useChange(
    () =>
      value(
        api.POST("/api/upkeep-windows", { body: { machine: d.machine, begin: d.offer!.begin, end: d.offer!.end, text: d.name, task: d.task } }),
      ),
    "upkeep",
    "setup",
    "plan",
    "jobs",
  );
  const late = d.due || Boolean(d.out);
  return (
    <li className="px-5 py-3">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className="min-w-0">
          {!alone && (
            <Link to={`/machines/${d.machine}`} className="mr-2 font-semibold">
              {d.machine}
            </Link>
          )}
          {d.name}
          {late && d.blocks !== "nothing" && (
            <span className={`ml-2 rounded px-1.5 py-0.5 text-sm ${d.blocks === "closes" ? "bg-alarm-wash text-alarm" : "bg-sunk"}`}>{d.blocks === "closes" ? "takes no work" : "warns"}</span>
          )}
        </span>
        <span className="flex items-center gap-1">
          {d.offer && (
            <Button needs="set_up" kind="quiet" asked={keep.isPending} onClick={() => keep.mutate(undefined)} title="No build starts that would reach into that time">
              Keep {soon(d.offer.begin, now)} free
            </Button>
          )}
          <Button needs="operate" kind={late ? "plain" : "quiet"} onClick={() => setDoing(true)}>
            {d.check ? "Measured…" : "Done…"}
          </Button>
        </span>
      </div>
      <Used due={d} />
      <p className="mt-1 mb-0 text-sm text-faded">
        {d.out ? <span className="text-alarm">{d.out}</span> : d.text}
        {!late && d.due_at && <> · due {soon(d.due_at, now)}</>}
        {d.due && d.due_at && Date.parse(d.due_at) < now.getTime() - 3_600_000 && <> · due since {soon(d.due_at, now)}</>} · takes {minutes(d.minutes)}
        {d.window && <> · kept free {soon(d.window.begin, now)}</>}
        {d.offer && d.offer.costs_min >= 1 && <> · that would delay work by {minutes(d.offer.costs_min)}</>}
      </p>
      <Refusal error={keep.error} />
      {doing && <DoneDialog machine={d.machine} due={d} close={() => setDoing(false)} />}
    </li>
  );
}

/** How much of what it allows is used. */
function Used({ due: d }: { due: DueTask }) {
  if (d.share == null) return null;
  const late = d.share >= 1;
  return (
    <div className="mt-1.5 h-1.5 overflow-hidden rounded-full bg-sunk" role="img" aria-label={`${Math.round(d.share * 100)} % used`}>
      <div className={`h-full rounded-full ${late ? "bg-alarm" : "bg-ink"}`} style={{ width: width(Math.min(1, d.share)) }} />
    </div>
  );
}
