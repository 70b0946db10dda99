import { ArrowUpToLine, GripVertical } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import { api, CallFailed, type Job, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useEveryJob, useQueue } from "./queries";
import { Button } from "../../ui/button";
import { duration, when } from "../../ui/format";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { SearchField } from "../../ui/search-field";
import { Row } from "./queue-row";

/** The lines of the queue: a machine's own, a pool's, and what any machine may take. */
function lineOf(job: Job) {
  const r = job.requirement;
  return r.machine ? `Only ${r.machine}` : r.pool ? `Pool ${r.pool}` : "Any machine";
}

export function QueuePage() {
  const [ended, setEnded] = useState(false);
  const [words, setWords] = useState("");
  return (
    <Page
      title="Queue"
      beside={
        <div className="flex flex-wrap items-center gap-x-5 gap-y-2 text-faded">
          {!ended && <Waiting />}
          <Link to="/what-if" className="text-sm text-ink">
            What if…
          </Link>
          <SearchField label="Search the queue" hint="File, customer, note" words={words} change={setWords} />
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" checked={ended} onChange={(e) => setEnded(e.target.checked)} />
            finished and withdrawn too
          </label>
        </div>
      }
    >
      {ended ? <Ended words={words} /> : <Line words={words} />}
    </Page>
  );
}

function Waiting() {
  const line = useQueue().data;
  const waiting = line?.copies ?? 0;
  if (!waiting) return null;
  return (
    <span>
      {waiting} {waiting === 1 ? "copy waits" : "copies wait"}, {duration(line?.work_s ?? 0)} of building
    </span>
  );
}

/** What is over, newest first. */
function Ended({ words }: { words: string }) {
  const jobs = useEveryJob(words);
  const list = jobs.data ?? [];
  return (
    <Sheet className="overflow-hidden">
      {jobs.error ? (
        <Failed error={jobs.error} again={() => jobs.refetch()} />
      ) : jobs.isPending ? (
        <Loading />
      ) : list.length === 0 ? (
        <Nothing words={words} />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {list.map((job) => (
            <Row key={job.id} job={job} />
          ))}
        </ul>
      )}
      <More of={jobs} />
    </Sheet>
  );
}

const Nothing = ({ words }: { words: string }) =>
  words ? (
    <Empty title="No job fits">No job’s file, part, customer, note or tag has “{words}”.</Empty>
  ) : (
    <Empty title="Nothing is queued">
      Choose a file in the <Link to="/library">Library</Link> and queue copies of it, or make an <Link to="/orders">order</Link>.
    </Empty>
  );

function Line({ words }: { words: string }) {
  const queue = useQueue(words);
  const now = useNow(10_000);
  const [dragged, setDragged] = useState<number | null>(null);
  const [over, setOver] = useState<number | null>(null);
  const [chosen, setChosen] = useState<Set<number>>(new Set());
  const version = queue.data?.version ?? 0;
  const header = { "if-match": `"${version}"` };
  const move = useChange(
    ({ jobs, before }: { jobs: number[]; before: number | null }) =>
      value(api.POST("/api/queue/move", { params: { header }, body: { jobs, before } })),
    "jobs",
    "plan",
  );
  const batch = useChange(
    (wish: "hold" | "release" | "withdraw" | "top" | "untop") =>
      value(api.POST("/api/queue/batch", { params: { header }, body: { jobs: [...chosen], wish } })).then(() => setChosen(new Set())),
    "jobs",
    "plan",
  );
  if (queue.error || queue.isPending)
    return <Sheet>{queue.error ? <Failed error={queue.error} again={() => queue.refetch()} /> : <Loading />}</Sheet>;
  const list = queue.data?.jobs ?? [];
  if (list.length === 0)
    return (
      <Sheet>
        <Nothing words={words} />
      </Sheet>
    );
  const lines = [...new Set(list.map(lineOf))];
  const moving = (job: Job) => (chosen.has(job.id) ? list.filter((j) => chosen.has(j.id)).map((j) => j.id) : [job.id]);
  const drop = (before: number | null) => {
    const job = list.find((j) => j.id === dragged);
    setDragged(null);
    setOver(null);
    if (job && before !== job.id) move.mutate({ jobs: moving(job), before });
  };
  const step = (job: Job, by: 1 | -1) => {
    const mine = list.filter((j) => lineOf(j) === lineOf(job));
    const at = mine.findIndex((j) => j.id === job.id);
    const target = by < 0 ? mine[at - 1] : mine[at + 2];
    if (by < 0 ? target : mine[at + 1]) move.mutate({ jobs: [job.id], before: target?.id ?? null });
  };
  const refused = move.error ?? batch.error;
  const conflict = refused instanceof CallFailed && refused.status === 412;
  return (
    <>
      {refused && (
        <div role="alert" className="mb-4 rounded-md bg-alarm-wash px-4 py-2.5 text-alarm">
          {conflict && <strong className="mr-2">Somebody was quicker.</strong>}
          {refused.message}
        </div>
      )}
      <p className="mt-0 mb-3 text-sm text-faded">
        The line decides where nothing presses more; what is put to the top goes first whatever the strategy.
        {queue.data?.change && queue.data.changed_at && (
          <>
            {" "}
            Last changed by {queue.data.changed_by} at {when(queue.data.changed_at, now)}: {queue.data.change}.
          </>
        )}
      </p>
      {chosen.size > 0 && (
        <div role="toolbar" aria-label="With the chosen jobs" className="sticky top-16 z-20 mb-3 flex flex-wrap items-center gap-2 rounded-lg border border-rule bg-sheet px-4 py-2.5 shadow-sm">
          <span className="mr-2 font-semibold">{chosen.size} chosen</span>
          <Button needs="queue" onClick={() => batch.mutate("top")} asked={batch.isPending && batch.variables === "top"}>
            <ArrowUpToLine size={15} aria-hidden /> To the top
          </Button>
          <Button needs="queue" onClick={() => batch.mutate("hold")}>Hold</Button>
          <Button needs="queue" onClick={() => batch.mutate("release")}>Release</Button>
          <Button needs="queue" kind="danger" onClick={() => batch.mutate("withdraw")}>
            Withdraw
          </Button>
          <Button kind="quiet" onClick={() => setChosen(new Set())}>
            Choose none
          </Button>
        </div>
      )}
      {lines.map((name) => (
        <Sheet key={name} className="mb-5 overflow-hidden">
          <h2 className="m-0 border-b border-rule px-5 py-2.5 text-base font-semibold">{name}</h2>
          <ul className="m-0 list-none divide-y divide-rule p-0" aria-label={`Line: ${name}`}>
            {list
              .filter((j) => lineOf(j) === name)
              .map((job) => (
                <Row
                  key={job.id}
                  job={job}
                  landing={over === job.id && dragged !== job.id}
                  handle={
                    <span className="flex items-center gap-2">
                      <input
                        type="checkbox"
                        aria-label={`Choose job ${job.id}`}
                        checked={chosen.has(job.id)}
                        onChange={(e) => {
                          const next = new Set(chosen);
                          if (e.target.checked) next.add(job.id);
                          else next.delete(job.id);
                          setChosen(next);
                        }}
                      />
                      <button
                        type="button"
                        draggable
                        aria-label={`Move job ${job.id}: drag, or use the arrow keys`}
                        title="Drag to move; arrow keys move it too"
                        className="cursor-grab rounded p-1 text-faded hover:bg-sunk"
                        onDragStart={(e) => {
                          e.dataTransfer.setData("text/plain", String(job.id));
                          e.dataTransfer.effectAllowed = "move";
                          setDragged(job.id);
                        }}
                        onDragEnd={() => setDragged(null)}
                        onKeyDown={(e) => {
                          if (e.key !== "ArrowUp" && e.key !== "ArrowDown") return;
                          e.preventDefault();
                          step(job, e.key === "ArrowUp" ? -1 : 1);
                        }}
                      >
                        <GripVertical size={17} aria-hidden />
                      </button>
                    </span>
                  }
                  onDragOver={(e) => {
                    if (dragged === null) return;
                    e.preventDefault();
                    setOver(job.id);
                  }}
                  onDrop={(e) => {
                    e.preventDefault();
                    drop(job.id);
                  }}
                />
              ))}
          </ul>
        </Sheet>
      ))}
      <More of={queue} />
      <div
        className={`-mt-3 rounded-md border border-dashed px-4 py-2 text-center text-sm text-faded ${dragged === null ? "invisible" : "border-rule"}`}
        onDragOver={(e) => e.preventDefault()}
        onDrop={(e) => {
          e.preventDefault();
          drop(null);
        }}
      >
        put at the end of the line
      </div>
    </>
  );
}
