import { useState } from "react";

import { api, type Planning, type SiteHours, type Spool, value } from "../../api/client";
import { useChange, useHours, useMachines, usePlanning, useSpools } from "../../api/queries";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";

const STRATEGIES: { key: Planning["strategy"]; text: string }[] = [
  { key: "first-come", text: "A machine that comes free takes the first in line that fits it." },
  { key: "due-first", text: "It takes what is due first of all that fits; the line decides where nothing is due." },
  {
    key: "hands-aware",
    text: "What would be late otherwise goes first. Of the rest: by day what ends while somebody is there, before people leave the longest that fits, and many short ones for machines that let go of their parts by themselves.",
  },
];
const DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];

export function SetupPage() {
  const planning = usePlanning();
  const hours = useHours();
  return (
    <Page title="Set-up">
      <div className="grid gap-5 lg:grid-cols-2 lg:items-start">
        <div className="flex min-w-0 flex-col gap-5">
          <Sheet>
            <SheetTitle>How the next build is chosen</SheetTitle>
            {planning.error ? <Failed error={planning.error} /> : planning.data ? <PlanningForm key={JSON.stringify(planning.data)} now={planning.data} /> : <Loading rows={4} />}
          </Sheet>
          <Sheet>
            <SheetTitle>When hands are here</SheetTitle>
            {hours.error ? <Failed error={hours.error} /> : hours.data ? <HoursForm key={JSON.stringify(hours.data)} all={hours.data} /> : <Loading rows={7} height="h-9" />}
          </Sheet>
        </div>
        <Spools />
      </div>
    </Page>
  );
}

function PlanningForm({ now }: { now: Planning }) {
  const [draft, setDraft] = useState(now);
  const [reasons, setReasons] = useState((now.scrap_reasons ?? []).join("\n"));
  const save = useChange(
    () =>
      value(
        api.PUT("/api/planning", {
          body: { ...draft, scrap_reasons: reasons.split("\n").map((r) => r.trim()).filter(Boolean) },
        }),
      ),
    "setup",
    "plan",
    "jobs",
  );
  const numbers: [keyof Planning, string][] = [
    ["clear_min", "to clear a bed"],
    ["spool_min", "to change a spool"],
    ["nozzle_min", "to change a nozzle"],
    ["walk_min", "until somebody is there"],
  ];
  return (
    <form
      className="flex flex-col gap-4 px-5 pb-5"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined);
      }}
    >
      <div role="radiogroup" aria-label="Strategy" className="flex flex-col gap-2">
        {STRATEGIES.map((s) => (
          <label key={s.key} className={`flex cursor-pointer gap-3 rounded-md border px-3.5 py-2.5 ${draft.strategy === s.key ? "border-ink" : "border-rule"}`}>
            <input type="radio" name="strategy" className="mt-1" checked={draft.strategy === s.key} onChange={() => setDraft({ ...draft, strategy: s.key })} />
            <span>
              <strong>{s.key}</strong>
              <span className="block text-sm text-faded">{s.text}</span>
            </span>
          </label>
        ))}
      </div>
      <div className="grid grid-cols-2 gap-3">
        {numbers.map(([key, text]) => (
          <Field key={key} label={`Minutes ${text}`}>
            <input
              className={inputLook}
              type="number"
              min={0}
              max={600}
              step={0.5}
              value={Number(draft[key])}
              onChange={(e) => setDraft({ ...draft, [key]: Number(e.target.value) })}
            />
          </Field>
        ))}
      </div>
      <Field label="Reasons for scrap" hint="One a line; they are offered on the rounds.">
        <textarea className={`${inputLook} min-h-28 py-2`} value={reasons} onChange={(e) => setReasons(e.target.value)} />
      </Field>
      <Refusal error={save.error} />
      <div className="flex items-center justify-end gap-3">
        {save.isSuccess && <span className="text-sm text-faded">set</span>}
        <Button kind="strong" type="submit" asked={save.isPending}>
          Set
        </Button>
      </div>
    </form>
  );
}

const NOBODY: SiteHours = { site: "", zone: "UTC", people: 1, days: {}, week: DAYS.map(() => []) };

function HoursForm({ all }: { all: SiteHours[] }) {
  const [draft, setDraft] = useState<SiteHours>(all.find((h) => !h.site) ?? NOBODY);
  const save = useChange(() => value(api.PUT("/api/hours", { body: draft })), "setup", "plan", "jobs");
  const setDay = (n: number, spans: SiteHours["week"][number]) => setDraft({ ...draft, week: draft.week.map((d, i) => (i === n ? spans : d)) });
  const field = "min-h-9 w-[6.5rem] rounded-md border border-rule bg-ground px-2 text-ink";
  return (
    <form
      className="flex flex-col gap-2 px-5 pb-5"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined);
      }}
    >
      {all.length === 0 && <p className="m-0 text-faded">No hours are set: somebody is taken to be here always.</p>}
      {DAYS.map((name, n) => {
        const spans = draft.week[n] ?? [];
        return (
          <div key={name} className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className="w-24">{name}</span>
            {spans.map((s, i) => (
              <span key={i} className="flex items-center gap-1.5">
                <input aria-label={`${name}, from`} className={field} type="time" value={s.begin} onChange={(e) => setDay(n, spans.map((x, k) => (k === i ? { ...x, begin: e.target.value } : x)))} />
                <span className="text-faded">to</span>
                <input aria-label={`${name}, until`} className={field} type="time" value={s.end} onChange={(e) => setDay(n, spans.map((x, k) => (k === i ? { ...x, end: e.target.value } : x)))} />
              </span>
            ))}
            {spans.length === 0 ? (
              <>
                <span className="text-faded">nobody</span>
                <Button kind="quiet" onClick={() => setDay(n, [{ begin: "08:00", end: "17:00" }])}>
                  Somebody
                </Button>
              </>
            ) : (
              <Button kind="quiet" onClick={() => setDay(n, [])}>
                Nobody
              </Button>
            )}
          </div>
        );
      })}
      <div className="mt-2 grid grid-cols-2 gap-3">
        <Field label="Pairs of hands at once">
          <input className={inputLook} type="number" min={1} max={50} value={draft.people} onChange={(e) => setDraft({ ...draft, people: Number(e.target.value) })} />
        </Field>
        <Field label="Time zone">
          <input className={inputLook} value={draft.zone} onChange={(e) => setDraft({ ...draft, zone: e.target.value })} />
        </Field>
      </div>
      <Refusal error={save.error} />
      <div className="flex items-center justify-end gap-3">
        {save.isSuccess && <span className="text-sm text-faded">set</span>}
        <Button kind="strong" type="submit" asked={save.isPending}>
          Set the hours
        </Button>
      </div>
    </form>
  );
}

function Spools() {
  const spools = useSpools();
  const [adding, setAdding] = useState(false);
  const [weighing, setWeighing] = useState<Spool | null>(null);
  const [loading, setLoading] = useState<Spool | null>(null);
  const rows = spools.data ?? [];
  return (
    <Sheet className="min-w-0">
      <SheetTitle
        beside={
          <button type="button" className="text-ink underline" onClick={() => setAdding(true)}>
            Add a spool
          </button>
        }
      >
        Spools
      </SheetTitle>
      {spools.error ? (
        <Failed error={spools.error} again={() => spools.refetch()} />
      ) : spools.isPending ? (
        <Loading rows={6} height="h-11" />
      ) : rows.length === 0 ? (
        <Empty title="No spool is counted">Add the reels you have, and a build that would run out is seen before it starts.</Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
          {rows.map((s) => (
            <li key={s.id} className="grid grid-cols-[1fr_5rem_auto] items-center gap-x-4 px-5 py-1.5">
              <span className="min-w-0">
                {s.colour} {s.material} <span className="text-sm text-faded">spool {s.id} · {s.machine ? `on ${s.machine}` : s.place || "on the shelf"}</span>
              </span>
              <span className={`text-right ${s.grams_left < 100 ? "font-semibold text-alarm" : ""}`}>{s.grams_left.toFixed(0)} g</span>
              <span className="flex">
                <Button kind="quiet" onClick={() => setWeighing(s)}>
                  Weigh
                </Button>
                <Button kind="quiet" onClick={() => setLoading(s)}>
                  Load
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {adding && <AddSpool close={() => setAdding(false)} />}
      {weighing && <Weigh spool={weighing} close={() => setWeighing(null)} />}
      {loading && <LoadOn spool={loading} close={() => setLoading(null)} />}
    </Sheet>
  );
}

function AddSpool({ close }: { close: () => void }) {
  const [material, setMaterial] = useState("PLA");
  const [colour, setColour] = useState("");
  const [grams, setGrams] = useState(1000);
  const [place, setPlace] = useState("");
  const add = useChange(
    () => value(api.POST("/api/spools", { body: { material, colour, grams_full: grams, place } })).then(close),
    "setup",
    "plan",
  );
  return (
    <FormDialog title="Add a spool" close={close} send={() => add.mutate(undefined)} asked={add.isPending} error={add.error} action="Add it">
      <div className="grid grid-cols-2 gap-3">
        <Field label="Material">
          <input className={inputLook} autoFocus value={material} onChange={(e) => setMaterial(e.target.value)} />
        </Field>
        <Field label="Colour">
          <input className={inputLook} value={colour} onChange={(e) => setColour(e.target.value)} />
        </Field>
        <Field label="Grams">
          <input className={inputLook} type="number" min={1} value={grams} onChange={(e) => setGrams(Number(e.target.value))} />
        </Field>
        <Field label="Where it lies">
          <input className={inputLook} value={place} onChange={(e) => setPlace(e.target.value)} />
        </Field>
      </div>
    </FormDialog>
  );
}

function Weigh({ spool: s, close }: { spool: Spool; close: () => void }) {
  const [grams, setGrams] = useState(Math.round(s.grams_left));
  const weigh = useChange(
    () => value(api.PATCH("/api/spools/{number}", { params: { path: { number: s.id } }, body: { grams_left: grams } })).then(close),
    "setup",
    "plan",
  );
  return (
    <FormDialog
      title={`Weigh spool ${s.id}`}
      text={`${s.colour} ${s.material}; counted down to ${s.grams_left.toFixed(0)} g.`}
      close={close}
      send={() => weigh.mutate(undefined)}
      asked={weigh.isPending}
      error={weigh.error}
      action="That is left"
    >
      <Field label="Grams, without the reel">
        <input className={inputLook} type="number" min={0} autoFocus value={grams} onChange={(e) => setGrams(Number(e.target.value))} />
      </Field>
    </FormDialog>
  );
}

function LoadOn({ spool: s, close }: { spool: Spool; close: () => void }) {
  const machines = useMachines().data ?? [];
  const [machine, setMachine] = useState(machines[0]?.name ?? "");
  const load = useChange(
    () => value(api.POST("/api/spools/{number}/load", { params: { path: { number: s.id } }, body: { machine, tool: 0 } })).then(close),
    "setup",
    "plan",
    "jobs",
  );
  return (
    <FormDialog
      title={`Load ${s.colour} ${s.material}`}
      text="What was on the machine goes back to the shelf."
      close={close}
      send={() => load.mutate(undefined)}
      asked={load.isPending}
      error={load.error}
      action="It is loaded"
    >
      <Field label="Machine">
        <select className={inputLook} value={machine} onChange={(e) => setMachine(e.target.value)}>
          {machines.map((m) => (
            <option key={m.name}>{m.name}</option>
          ))}
        </select>
      </Field>
    </FormDialog>
  );
}
