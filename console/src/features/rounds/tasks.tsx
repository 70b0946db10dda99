import { Camera, Footprints } from "lucide-react";
import { type ReactNode, useState } from "react";

import type { Rounds, RoundTask } from "../../api/client";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { clock, duration, minutes, when } from "../../ui/format";
import { Empty, Refusal, Sheet } from "../../ui/page";

/** What came of a build, as it is sent. */
export interface Judged {
  build: number;
  verdict: "good" | "scrap";
  reason: string;
  good: number | null;
  photo: File | null;
}

interface Props {
  rounds: Rounds;
  /** Sends a verdict; undefined while that is not possible here. */
  judge: (judged: Judged) => Promise<unknown>;
  /** What else can be done about a task here. */
  deed?: (task: RoundTask) => ReactNode;
}

const NAMES: Record<RoundTask["kind"], string> = {
  look: "Look",
  fix: "Fix",
  clear: "Clear",
  confirm: "Confirm",
  load: "Load",
  nozzle: "Nozzle",
  start: "Start",
  upkeep: "Upkeep",
  judge: "Judge",
};

/** What hands must do: each done with one thumb. */
export function Tasks({ rounds, judge, deed }: Props) {
  const [order, setOrder] = useState<"cost" | "walk">("cost");
  const [judging, setJudging] = useState<RoundTask | null>(null);
  const [scrapping, setScrapping] = useState<RoundTask | null>(null);
  const now = useNow(2000);
  const tasks = [...rounds.tasks].sort((a, b) => (order === "walk" ? a.walk - b.walk : 0));
  return (
    <>
      {rounds.batches.map((b) => (
        <p key={b.text} className="mt-0 mb-4 flex items-center gap-3 rounded-lg bg-sunk px-4 py-3">
          <Footprints size={20} aria-hidden className="shrink-0" />
          {b.text}
        </p>
      ))}
      <div className="mb-3 flex items-baseline justify-between gap-4">
        <h2 className="m-0 text-lg font-semibold">{tasks.length === 0 ? "Now" : `Now, ${tasks.length}`}</h2>
        {tasks.length > 1 && (
          <div role="group" aria-label="Order" className="flex gap-1 text-sm">
            {(["cost", "walk"] as const).map((o) => (
              <button
                key={o}
                type="button"
                aria-pressed={order === o}
                onClick={() => setOrder(o)}
                className="min-h-9 rounded-md px-3 text-faded aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink"
              >
                {o === "cost" ? "costly first" : "one walk"}
              </button>
            ))}
          </div>
        )}
      </div>
      {tasks.length === 0 ? (
        <Sheet className="mb-6">
          <Empty title="Nothing to do now">{next(rounds, now)}</Empty>
        </Sheet>
      ) : (
        <ul className="m-0 mb-7 flex list-none flex-col gap-3 p-0">
          {tasks.map((t) => (
            <li key={`${t.machine} ${t.kind} ${t.upkeep?.task ?? ""}`} className="rounded-lg border border-rule bg-sheet p-4">
              <div className="flex items-baseline justify-between gap-3">
                <span className="text-lg font-semibold">
                  {t.machine}
                  {(t.place || t.site) && <span className="ml-2 text-base font-normal text-faded">{[t.site, t.place].filter(Boolean).join(" ")}</span>}
                </span>
                <span className="rounded bg-sunk px-2 py-0.5 text-sm font-medium">{NAMES[t.kind]}</span>
              </div>
              <p className="mt-1 mb-0.5">{t.text}</p>
              <p className="m-0 text-sm text-faded">
                since {when(t.since, now)} · <Cost task={t} now={now} />
              </p>
              <div className="mt-3 flex flex-wrap gap-2">
                {(t.kind === "clear" || t.kind === "confirm" || t.kind === "judge") && t.build != null && (
                  <>
                    <Button needs="judge" at={t.machine} kind="strong" className="min-h-12 flex-1 text-base" onClick={() => setJudging(t)}>
                      {t.kind === "judge" ? "Good" : "Lifted off, good"}
                    </Button>
                    <Button needs="judge" at={t.machine} kind="danger" className="min-h-12 text-base" onClick={() => setScrapping(t)}>
                      Scrap…
                    </Button>
                  </>
                )}
                {deed?.(t)}
              </div>
            </li>
          ))}
        </ul>
      )}
      {rounds.coming.length > 0 && (
        <>
          <h2 className="m-0 mb-2 text-lg font-semibold">Coming</h2>
          <Sheet>
            <ul className="m-0 list-none divide-y divide-rule p-0">
              {rounds.coming.map((c) => (
                <li key={c.machine} className="grid grid-cols-[3.5rem_1fr_auto] items-baseline gap-3 px-4 py-2.5">
                  <span className="font-semibold">{clock(c.at)}</span>
                  <span className="min-w-0 truncate">
                    {c.machine} <span className="text-faded">{c.what}</span>
                  </span>
                  <span className="text-sm whitespace-nowrap text-faded">
                    {[c.site, c.place].filter(Boolean).join(" ")} · in {duration((Date.parse(c.at) - now.getTime()) / 1000)}
                  </span>
                </li>
              ))}
            </ul>
          </Sheet>
        </>
      )}
      {judging && <Confirm task={judging} judge={judge} close={() => setJudging(null)} />}
      {scrapping && <Scrap task={scrapping} reasons={rounds.scrap_reasons} judge={judge} close={() => setScrapping(null)} />}
    </>
  );
}

function next(rounds: Rounds, now: Date) {
  const first = rounds.coming[0];
  return first ? `${first.machine} is ready at ${clock(first.at)}, in ${duration((Date.parse(first.at) - now.getTime()) / 1000)}.` : "No build is under way.";
}

/** What waiting costs. */
function Cost({ task: t, now }: { task: RoundTask; now: Date }) {
  if (!t.free_until) return <>waiting costs nothing{t.kind === "clear" ? ": nothing waits for it" : ""}</>;
  const lost = (now.getTime() - Date.parse(t.free_until)) / 60_000;
  if (lost <= 0) return <>waiting costs nothing until {clock(t.free_until)}</>;
  return <span className="text-ink">{minutes(lost)} of the machine lost</span>;
}

function useSend(judge: Props["judge"], close: () => void) {
  const [error, setError] = useState<Error | null>(null);
  const [asked, setAsked] = useState(false);
  const send = async (judged: Judged) => {
    setAsked(true);
    setError(null);
    try {
      await judge(judged);
      close();
    } catch (e) {
      setError(e as Error);
      setAsked(false);
    }
  };
  return { send, error, asked };
}

/** One confirm: the bed is clear, the part is good, and what starts then. */
function Confirm({ task: t, judge, close }: { task: RoundTask; judge: Props["judge"]; close: () => void }) {
  const { send, error, asked } = useSend(judge, close);
  const [good, setGood] = useState(t.pieces ?? 1);
  const many = t.pieces ?? 1;
  const [reason, setReason] = useState("");
  const follows = t.next
    ? t.next.load || t.next.nozzle
      ? `${t.next.what} comes next, once ${[t.next.load, t.next.nozzle].filter(Boolean).join(" and ")} is on.`
      : t.next.by_hand
        ? `${t.next.what} can be started then.`
        : `${t.next.what} starts then.`
    : "Nothing waits for this machine.";
  return (
    <Dialog open close={close} title={t.kind === "judge" ? `${t.machine}: is it good?` : `${t.machine}: bed clear, part good?`} text={follows}>
      {many > 1 && (
        <Field label={`How many of the ${many} are good?`}>
          <input className={inputLook} type="number" min={0} max={many} value={good} onChange={(e) => setGood(Math.min(many, Math.max(0, Number(e.target.value))))} />
        </Field>
      )}
      {good < many && (
        <Field label="What was wrong with the others?">
          <input className={inputLook} value={reason} maxLength={300} onChange={(e) => setReason(e.target.value)} />
        </Field>
      )}
      <Refusal error={error} />
      <Button
        kind="strong"
        className="min-h-12 text-base"
        asked={asked}
        disabled={good < many && !reason.trim()}
        onClick={() => void send({ build: t.build ?? 0, verdict: good > 0 ? "good" : "scrap", reason, good: many > 1 ? good : null, photo: null })}
      >
        Yes
      </Button>
      <Button kind="quiet" onClick={close}>
        Not yet
      </Button>
    </Dialog>
  );
}

function Scrap({ task: t, reasons, judge, close }: { task: RoundTask; reasons: string[]; judge: Props["judge"]; close: () => void }) {
  const { send, error, asked } = useSend(judge, close);
  const [reason, setReason] = useState("");
  const [note, setNote] = useState("");
  const [photo, setPhoto] = useState<File | null>(null);
  const said = [reason, note.trim()].filter(Boolean).join(": ");
  return (
    <Dialog open close={close} title={`${t.machine}: what was wrong?`} text="The copy goes back to the queue.">
      <div role="radiogroup" aria-label="Reason" className="grid grid-cols-2 gap-2">
        {reasons.map((r) => (
          <button
            key={r}
            type="button"
            role="radio"
            aria-checked={reason === r}
            onClick={() => setReason(reason === r ? "" : r)}
            className="min-h-12 rounded-md border border-rule px-3 text-left aria-checked:border-ink aria-checked:bg-ink aria-checked:text-ground"
          >
            {r}
          </button>
        ))}
      </div>
      <Field label="Note">
        <input className={inputLook} value={note} maxLength={200} onChange={(e) => setNote(e.target.value)} />
      </Field>
      <label className="inline-flex min-h-11 cursor-pointer items-center gap-2 rounded-md border border-rule px-3.5 text-sm">
        <Camera size={17} aria-hidden />
        {photo ? photo.name : "Add a photo"}
        <input
          type="file"
          accept="image/jpeg,image/png"
          capture="environment"
          className="sr-only"
          aria-label="Photo"
          onChange={(e) => setPhoto(e.target.files?.[0] ?? null)}
        />
      </label>
      <Refusal error={error} />
      <Button
        kind="danger"
        className="min-h-12 text-base"
        asked={asked}
        disabled={!said}
        onClick={() => void send({ build: t.build ?? 0, verdict: "scrap", reason: said, good: null, photo })}
      >
        Lifted off, scrap
      </Button>
      <Button kind="quiet" onClick={close}>
        Not yet
      </Button>
    </Dialog>
  );
}
