import { useState } from "react";
import { Link } from "react-router";

import { api, type Job, value } from "../../api/client";
import { useChange, useJobs } from "../../api/queries";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { duration, sum } from "../../ui/format";
import { Empty, Failed, Loading, Page, Refusal, Sheet } from "../../ui/page";

const WORDS: Record<Job["state"], string> = {
  waiting: "waiting",
  held: "held",
  running: "running",
  finished: "finished",
  withdrawn: "withdrawn",
};

export function QueuePage() {
  const [ended, setEnded] = useState(false);
  const jobs = useJobs(ended);
  const list = jobs.data ?? [];
  const ordered = ended ? [...list].reverse().slice(0, 200) : list;
  const waiting = sum(list.filter((j) => j.state !== "withdrawn").map((j) => j.waiting));
  const work = sum(list.filter((j) => j.state !== "withdrawn").map((j) => j.waiting * j.planned_s));
  return (
    <Page
      title="Queue"
      beside={
        <div className="flex items-center gap-5 text-faded">
          {!ended && jobs.data && waiting > 0 && (
            <span>
              {waiting} {waiting === 1 ? "copy waits" : "copies wait"}, {duration(work)} of building
            </span>
          )}
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" checked={ended} onChange={(e) => setEnded(e.target.checked)} />
            finished and withdrawn too
          </label>
        </div>
      }
    >
      <Sheet className="overflow-hidden">
        {jobs.error ? (
          <Failed error={jobs.error} again={() => jobs.refetch()} />
        ) : jobs.isPending ? (
          <Loading />
        ) : ordered.length === 0 ? (
          <Empty title="Nothing is queued">
            Choose a file in the <Link to="/library">Library</Link> and queue copies of it.
          </Empty>
        ) : (
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {ordered.map((job) => (
              <Row key={job.id} job={job} />
            ))}
          </ul>
        )}
      </Sheet>
    </Page>
  );
}

export function needs(r: Job["requirement"]) {
  return (
    [
      [r.colour, r.material].filter(Boolean).join(" "),
      r.nozzle_mm ? `${r.nozzle_mm} mm` : "",
      r.hardened ? "hardened" : "",
      r.model,
      r.machine ? `on ${r.machine}` : "",
    ]
      .filter(Boolean)
      .join(" · ") || "any machine"
  );
}

function Row({ job }: { job: Job }) {
  const [asking, setAsking] = useState(false);
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
  return (
    <li className="grid grid-cols-[1fr_auto] items-center gap-x-6 gap-y-1 px-5 py-3.5 md:grid-cols-[minmax(0,15rem)_11rem_minmax(0,1fr)_auto]">
      <div className="min-w-0">
        <div className="truncate font-semibold">{job.file}</div>
        <div className="text-sm text-faded">
          job {job.id} · {needs(job.requirement)}
          {job.part_id ? " · part" : (job.revision ?? 1) > 1 ? ` · revision ${job.revision}${job.pinned ? ", pinned" : ", follows the newest"}` : ""}
        </div>
      </div>
      <Copies job={job} />
      <div className="col-span-2 text-sm text-faded md:col-span-1">
        <span className={job.state === "held" ? "font-semibold text-ink" : "text-ink"}>{WORDS[job.state]}</span>
        {job.why && <> · {job.why}</>}
        <Refusal error={wish.error ?? pin.error} />
      </div>
      {!over && (
        <div className="col-span-2 flex justify-end gap-1 md:col-span-1">
          {job.revision != null && (job.pinned || job.revision > 1) && (
            <Button kind="quiet" asked={pin.isPending} onClick={() => pin.mutate(undefined)}>
              {job.pinned ? "Follow the newest" : `Pin to revision ${job.revision}`}
            </Button>
          )}
          {job.state === "held" ? (
            <Button kind="quiet" asked={wish.isPending} onClick={() => wish.mutate("release")}>
              Release
            </Button>
          ) : (
            <Button kind="quiet" asked={wish.isPending && wish.variables === "hold"} onClick={() => wish.mutate("hold")}>
              Hold
            </Button>
          )}
          <Button kind="quiet" onClick={() => setAsking(true)}>
            Withdraw…
          </Button>
        </div>
      )}
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

/** Copies as a row of marks: good, on a machine, waiting. */
function Copies({ job }: { job: Job }) {
  const text = `${job.good} good, ${job.building} building, ${job.waiting} waiting`;
  const marks = [
    ...Array<string>(job.good).fill("bg-[var(--building)]"),
    ...Array<string>(job.building).fill("state-bar"),
    ...Array<string>(job.waiting).fill("border border-faded/60"),
  ];
  return (
    <div className="text-right md:text-left" title={text}>
      <div>
        <strong>{job.good}</strong> of {job.copies} good
      </div>
      <div aria-hidden className="mt-1 flex flex-wrap justify-end gap-1 md:justify-start">
        {marks.slice(0, 16).map((look, i) => (
          <span key={i} className={`h-2.5 w-2.5 rounded-[2px] ${look}`} data-state="forecast" />
        ))}
      </div>
      <span className="sr-only">{text}</span>
    </div>
  );
}
