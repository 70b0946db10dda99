import { useState } from "react";
import { Link } from "react-router";

import { api, type MachineDetail, type Suspicion, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { FormDialog } from "../../ui/dialog";
import { percent, when } from "../../ui/format";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useNow } from "../../api/live";
import { KINDS, useOpenSuspicions } from "./watch-queries";

export const kindName = (s: Suspicion) => KINDS.find((k) => k.mode === s.mode)?.name ?? s.mode;

/** What followed of a suspicion, in words. */
export function followed(s: Suspicion): string {
  if (s.problem) return s.problem;
  switch (s.followed) {
    case "pause":
      return s.build ? "The watch paused the build." : "The watch gives it no work until the bed is clear.";
    case "leave-out":
      return `The watch left ${s.object} out; the rest goes on.`;
    default:
      return "";
  }
}

/** What is suspected of a machine's build now, with its picture and what can be done. */
export function Suspicions({ machine: m }: { machine: MachineDetail }) {
  const found = (useOpenSuspicions(m.name).data ?? []).filter((s) => (s.build ?? null) === (m.build?.id ?? null));
  const acted = (s: Suspicion) => Number(s.followed === "pause" || s.followed === "leave-out");
  const [first, ...others] = [...found].sort((a, b) => acted(b) - acted(a) || a.number - b.number);
  if (!first) return null;
  return <SuspicionCard key={first.number} machine={m} suspicion={first} others={others} />;
}

function SuspicionCard({ machine: m, suspicion: s, others }: { machine: MachineDetail; suspicion: Suspicion; others: Suspicion[] }) {
  const now = useNow(5000);
  const [stopping, setStopping] = useState(false);
  const build = { params: { path: { number: s.build ?? 0 } } };
  const say = (one: Suspicion, right: boolean) =>
    value(api.POST("/api/suspicions/{number}/answer", { params: { path: { number: one.number } }, body: { right } }));
  const paused = m.state === "paused" && !!s.build;
  const runs = m.state === "building" && !!s.build;
  const falseAlarmWords = s.build ? (paused ? "False alarm: resume" : "False alarm") : "The bed is clear: go on";
  const falseAlarm = useChange(
    async () => {
      for (const one of [s, ...others]) await say(one, false);
      if (paused) await value(api.POST("/api/builds/{number}/resume", build));
    },
    "suspicions",
    "machine",
  );
  const right = useChange(() => say(s, true), "suspicions");
  const pause = useChange(() => value(api.POST("/api/builds/{number}/pause", { ...build, body: { reason: s.sentence } })), "machine");
  const leaveOut = useChange(
    async () => {
      await value(api.POST("/api/builds/{number}/skip", { ...build, body: { objects: [s.object ?? ""] } }));
      await say(s, true);
      if (paused) await value(api.POST("/api/builds/{number}/resume", build));
    },
    "suspicions",
    "machine",
    "build",
  );
  const error = falseAlarm.error ?? right.error ?? pause.error ?? leaveOut.error;
  return (
    <Sheet className="overflow-hidden border-alarm/50">
      <SheetTitle beside={when(s.at, now)}>
        <span className="text-alarm">{kindName(s)}?</span> {percent(s.probability)} likely
      </SheetTitle>
      <div className="grid gap-4 px-5 pb-4 sm:grid-cols-[minmax(0,1fr)_minmax(0,1fr)] lg:grid-cols-1 xl:grid-cols-[minmax(0,1fr)_minmax(0,1fr)]">
        <SuspicionPicture suspicion={s} />
        <div className="flex flex-col gap-3">
          <p className="m-0">
            {s.sentence} {followed(s)}
          </p>
          {others.length > 0 && (
            <p className="m-0 text-sm text-faded">
              Also: {others.map((o) => `${kindName(o).toLowerCase()}${o.object ? ` (${o.object})` : ""} ${percent(o.probability)}`).join(", ")}.
            </p>
          )}
          <div className="flex flex-wrap gap-2">
            <Button needs="judge" kind="strong" asked={falseAlarm.isPending} onClick={() => falseAlarm.mutate(undefined)}>
              {falseAlarmWords}
            </Button>
            {s.object && (runs || paused) && (
              <Button needs="operate" asked={leaveOut.isPending} onClick={() => leaveOut.mutate(undefined)}>
                Leave {s.object} out
              </Button>
            )}
            {runs && (
              <Button needs="operate" asked={pause.isPending} onClick={() => pause.mutate(undefined)}>
                Pause
              </Button>
            )}
            {(runs || paused) && (
              <Button needs="operate" kind="danger" onClick={() => setStopping(true)}>
                Stop
              </Button>
            )}
            <Button needs="judge" kind="quiet" asked={right.isPending} onClick={() => right.mutate(undefined)}>
              It is so
            </Button>
          </div>
          <Refusal error={error} />
        </div>
      </div>
      {stopping && <Stop suspicion={s} right={() => say(s, true)} close={() => setStopping(false)} />}
    </Sheet>
  );
}

function Stop({ suspicion: s, right, close }: { suspicion: Suspicion; right: () => Promise<unknown>; close: () => void }) {
  const stop = useChange(
    async () => {
      await right();
      await value(api.POST("/api/builds/{number}/stop", { params: { path: { number: s.build ?? 0 } }, body: { reason: s.sentence } }));
      close();
    },
    "suspicions",
    "machine",
  );
  return (
    <FormDialog
      title={`Stop build ${s.build}?`}
      text="Its heaters go off and the bed is presented. What is laid is lost; the copy can be queued again."
      close={close}
      send={() => stop.mutate(undefined)}
      asked={stop.isPending}
      error={stop.error}
      action="It is so: stop"
      kind="danger"
    >
      <></>
    </FormDialog>
  );
}

/** The frame of a suspicion with the place marked. */
export function SuspicionPicture({ suspicion: s }: { suspicion: Suspicion }) {
  if (!s.frame) return <p className="m-0 grid aspect-[4/3] place-items-center rounded-md bg-sunk text-sm text-faded">Its picture has been thinned out.</p>;
  const [left = 0, top = 0, wide = 0, high = 0] = s.place ?? [];
  const pct = (share: number) => `${(100 * share).toFixed(2)}%`;
  const pad = 0.015;
  return (
    <Link
      to={s.build ? `/builds/${s.build}` : `/cameras/${encodeURIComponent(s.camera ?? "")}`}
      className="relative block self-start overflow-hidden rounded-md bg-sunk"
      aria-label={`${kindName(s)}: picture, opens ${s.build ? `build ${s.build}` : s.camera}`}
    >
      <img src={`/api/frames/${s.frame}`} alt="" className="block w-full" />
      {s.place && (
        <span
          className="absolute rounded-sm border-2 border-white outline-2 outline-alarm"
          style={{ left: pct(Math.max(0, left - pad)), top: pct(Math.max(0, top - pad)), width: pct(wide + 2 * pad), height: pct(high + 2 * pad) }}
        />
      )}
    </Link>
  );
}
