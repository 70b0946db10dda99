import { type DragEvent, type ReactNode, useState } from "react";
import { Link } from "react-router";

import { api, type Job, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useJobWhy } from "../planning/queries";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { duration, soon } from "../../ui/format";
import { Failed, Loading, Refusal } from "../../ui/page";
import { Expected, PromiseMark } from "../../ui/promise";
import { FilmRuleLine } from "../watching/film-rule";
import { WatchRuleLine } from "../watching/watch-rule";
import { needs } from "./needs-words";

interface Props {
  job: Job;
  /** What moves and chooses it. */
  handle?: ReactNode;
  /** Whether what is dragged would land before it. */
  landing?: boolean;
  onDragOver?: (e: DragEvent) => void;
  onDrop?: (e: DragEvent) => void;
}

/** One job of the queue: how many, when, why it waits, and what can be done about it. */
export function Row({ job, handle, landing, onDragOver, onDrop }: Props) {
  const now = useNow(10_000);
  const [asking, setAsking] = useState(false);
  const [open, setOpen] = useState(false);
  const wish = useChange(
    (kind: "hold" | "release" | "withdraw") =>
      value(api.POST(`/api/jobs/{number}/${kind}`, { params: { path: { number: job.id } } })),
    "jobs",
  );
  const pin = useChange(
    () =>
      value(
        api.PATCH("/api/jobs/{number}", {
          params: { path: { number: job.id } },
          body: { revision: job.pinned ? 0 : (job.revision ?? 0) },
        }),
      ),
    "jobs",
  );
  const over = job.state === "finished" || job.state === "withdrawn";
  const live = job.state === "waiting" || job.state === "running";
  return (
    <li
      onDragOver={onDragOver}
      onDrop={onDrop}
      className={`px-5 py-3.5 ${landing ? "shadow-[inset_0_3px_0_var(--ink)]" : ""}`}
    >
      <div className={`grid grid-cols-[auto_1fr_auto] items-center gap-x-5 gap-y-1 ${handle ? "md:grid-cols-[auto_minmax(0,1fr)_11rem_minmax(0,1.8fr)_minmax(14rem,auto)]" : "md:grid-cols-[0_minmax(0,1fr)_11rem_minmax(0,1.8fr)_minmax(14rem,auto)]"}`}>
        <span>{handle}</span>
        <div className="min-w-0">
          <div className="truncate font-semibold">
            {job.file}
            {job.top && <span className="ml-2 rounded bg-sunk px-1.5 py-0.5 text-xs font-medium">top</span>}
          </div>
          <div className="text-sm text-faded">
            job {job.id} · {needs(job.requirement)}
            {job.part_id ? " · part" : ""}
            {job.order != null && (
              <>
                {" · "}
                <Link to={`/orders/${job.order}`}>{job.customer}</Link>
              </>
            )}
            {job.revision != null && (job.revision ?? 1) > 1 ? ` · revision ${job.revision}${job.pinned ? ", pinned" : ", follows the newest"}` : ""}
          </div>
        </div>
        <Copies job={job} />
        <div className="col-span-3 text-sm text-faded md:col-span-1">
          <div className="flex flex-wrap items-baseline gap-x-3">
            <span className={`text-ink ${job.state === "held" ? "font-semibold" : ""}`}>{job.state}</span>
            {live && (
              <span className="text-ink">
                done <Expected range={job.expected} now={now} />
              </span>
            )}
            {job.due && !over && <span>due {soon(job.due, now)}</span>}
          </div>
          <div className="flex flex-wrap items-baseline gap-x-3">
            {!over && <PromiseMark promise={job.promise} chance={job.chance} since={job.promise_since} why={job.promise_why} />}
            {job.why && <span>{job.why}</span>}
          </div>
          <Refusal error={wish.error ?? pin.error} />
        </div>
        {!over && (
          <div className="col-span-3 flex flex-wrap justify-end gap-1 md:col-span-1">
            {job.waiting > 0 && (
              <Button kind="quiet" aria-expanded={open} onClick={() => setOpen(!open)}>
                Why
              </Button>
            )}
            {job.revision != null && (job.pinned || job.revision > 1) && (
              <Button needs="queue" kind="quiet" asked={pin.isPending} onClick={() => pin.mutate(undefined)}>
                {job.pinned ? "Follow the newest" : `Pin to revision ${job.revision}`}
              </Button>
            )}
            {job.state === "held" ? (
              <Button needs="queue" kind="quiet" asked={wish.isPending} onClick={() => wish.mutate("release")}>
                Release
              </Button>
            ) : (
              <Button needs="queue" kind="quiet" asked={wish.isPending && wish.variables === "hold"} onClick={() => wish.mutate("hold")}>
                Hold
              </Button>
            )}
            <Button needs="queue" kind="quiet" onClick={() => setAsking(true)}>
              Withdraw…
            </Button>
          </div>
        )}
      </div>
      {open && (
        <p className="mt-3 mb-0 px-4 text-sm text-faded">
          Films: <FilmRuleLine scope="job" subject={String(job.id)} />
          <br />
          The watch: <WatchRuleLine scope="job" subject={String(job.id)} />
        </p>
      )}
      {open && <Why job={job} />}
      <Dialog
        open={asking}
        close={() => setAsking(false)}
        title={`Withdraw job ${job.id}?`}
        text={`${job.waiting} waiting ${job.waiting === 1 ? "copy" : "copies"} of ${job.file} will not be made.${job.building ? " Builds that run go on." : ""}`}
      >
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={() => setAsking(false)}>
            Keep it
          </Button>
          <Button
            kind="danger"
            onClick={() => {
              setAsking(false);
              wish.mutate("withdraw");
            }}
          >
            Withdraw
          </Button>
        </div>
      </Dialog>
    </li>
  );
}

/** Every machine with its reasons, nearest first, and the smallest change that would start the job. */
function Why({ job }: { job: Job }) {
  const why = useJobWhy(job.id, true);
  if (why.error) return <Failed error={why.error} again={() => why.refetch()} />;
  if (!why.data) return <Loading rows={3} height="h-9" />;
  const w = why.data;
  return (
    <section aria-label={`Why job ${job.id} waits`} className="mt-3 rounded-md bg-sunk/50 px-4 py-3 text-sm">
      {w.next && <p className="m-0 mb-1">It is {w.next}.</p>}
      {w.change && (
        <p className="m-0 mb-2 text-base">
          To start it now: <strong>{w.change}</strong>
          {(w.machines[0]?.hands_s ?? 0) > 0 && <span className="text-faded"> · about {duration(w.machines[0]?.hands_s ?? 0)} of hands</span>}
        </p>
      )}
      <table className="w-full border-collapse">
        <tbody>
          {w.machines.map((m) => (
            <tr key={m.machine} className="border-t border-rule align-baseline">
              <td className="w-24 py-1 pr-3 font-semibold">{m.machine}</td>
              <td className="py-1 pr-3">{m.reasons.join("; ")}</td>
              <td className="hidden py-1 text-faded sm:table-cell">{m.change}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** Copies as a row of marks: good, on a machine, waiting. */
function Copies({ job }: { job: Job }) {
  const text = `${job.good} good, ${job.building} building, ${job.waiting} waiting`;
  const marks = [
    ...Array<string>(Math.min(job.good, 40)).fill("bg-[var(--building)]"),
    ...Array<string>(Math.min(job.building, 40)).fill("state-bar"),
    ...Array<string>(Math.min(job.waiting, 40)).fill("border border-faded/60"),
  ];
  return (
    <div className="text-right md:text-left" title={text}>
      <div>
        <strong>{job.good}</strong> of {job.copies} good
      </div>
      {job.copies <= 16 && (
        <div aria-hidden className="mt-1 flex flex-wrap justify-end gap-1 md:justify-start">
          {marks.slice(0, 16).map((look, i) => (
            <span key={i} className={`h-2.5 w-2.5 rounded-[2px] ${look}`} data-state="forecast" />
          ))}
        </div>
      )}
      <span className={job.copies <= 16 ? "sr-only" : "text-sm text-faded"}>
        {job.copies <= 16 ? text : `${job.building} building, ${job.waiting} waiting`}
      </span>
    </div>
  );
}
