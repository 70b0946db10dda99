import { UserX, X } from "lucide-react";
import { useState } from "react";

import { api, type SiteHours, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useMachines } from "../machines/queries";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { useDraft } from "../../ui/draft";
import { day as dayName, localInput } from "../../ui/format";
import { HowKept, Refusal } from "../../ui/page";
import { TimeField } from "../../ui/time-field";

type Spans = SiteHours["week"][number];

const DAYS = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const WORKDAY: Spans = [{ begin: "08:00", end: "17:00" }];
const NOBODY: SiteHours = { site: "", zone: "UTC", people: 1, days: {}, week: DAYS.map(() => []) };
const field = "min-h-9 rounded-md border border-rule bg-ground px-2 text-ink";

/** Hours of the shop, and of each site that has its own. */
export function Hours({ all }: { all: SiteHours[] }) {
  const [site, setSite] = useState("");
  const sites = [...new Set([...(useMachines().data ?? []).map((m) => m.site ?? ""), ...all.map((h) => h.site ?? "")])].filter(Boolean).sort();
  const own = all.find((h) => (h.site ?? "") === site);
  const start = own ?? { ...(all.find((h) => !h.site) ?? NOBODY), site };
  return (
    <>
      {sites.length > 0 && (
        <div className="px-5 pb-3">
          <Field label="Of" hint={own || !site ? undefined : "It has no hours of its own: the shop's hold there."}>
            <select className={inputLook} value={site} onChange={(e) => setSite(e.target.value)}>
              <option value="">the whole shop</option>
              {sites.map((s) => (
                <option key={s}>{s}</option>
              ))}
            </select>
          </Field>
        </div>
      )}
      {all.length === 0 && <p className="m-0 px-5 pb-2 text-faded">No hours are set: somebody is taken to be here always.</p>}
      <HoursForm key={site} kept={start} />
    </>
  );
}

function HoursForm({ kept }: { kept: SiteHours }) {
  const { now, typed, touched, type, sent } = useDraft(kept);
  const today = useNow(60_000);
  const [date, setDate] = useState("");
  const save = useChange((hours: Partial<SiteHours>) => value(api.PUT("/api/hours", { body: { ...kept, ...hours } })), "setup", "plan", "jobs");
  const setDay = (date: string, spans: Spans | null) => {
    const rest = Object.fromEntries(Object.entries(now.days ?? {}).filter(([d]) => d !== date));
    type({ days: spans ? { ...rest, [date]: spans } : rest });
  };
  const dates = Object.keys(now.days ?? {}).filter((d) => d >= localInput(today).slice(0, 10)).sort();
  return (
    <form
      className="flex flex-col gap-2 px-5 pb-5"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(typed, { onSuccess: () => sent(typed) });
      }}
    >
      {DAYS.map((name, n) => (
        <Day key={name} name={name} spans={now.week[n] ?? []} set={(spans) => type({ week: now.week.map((d, i) => (i === n ? spans : d)) })} />
      ))}
      <h3 className="mt-3 mb-0 text-base font-semibold">Days unlike the others</h3>
      {dates.map((d) => (
        <div key={d} className="flex items-center gap-1">
          <Day name={dayName(d)} spans={now.days![d]!} set={(spans) => setDay(d, spans)} />
          <button type="button" className="rounded p-1.5 text-faded hover:bg-sunk" aria-label={`${dayName(d)} like the others`} onClick={() => setDay(d, null)}>
            <X size={15} />
          </button>
        </div>
      ))}
      <div className="flex flex-wrap items-center gap-2">
        <TimeField date label="Date" className={`${field} w-40`} value={date} change={setDate} />
        <Button
          kind="quiet"
          disabled={!date || date < localInput(today).slice(0, 10)}
          onClick={() => {
            setDay(date, []);
            setDate("");
          }}
        >
          Add the day
        </Button>
      </div>
      <div className="mt-2 grid grid-cols-2 gap-3">
        <Field label="Pairs of hands at once">
          <input className={inputLook} type="number" min={1} max={50} value={now.people} onChange={(e) => type({ people: Number(e.target.value) })} />
        </Field>
        <Field label="Time zone">
          <input className={inputLook} value={now.zone} onChange={(e) => type({ zone: e.target.value })} />
        </Field>
      </div>
      <Refusal error={save.error} />
      <div className="flex items-center justify-end gap-3">
        <HowKept touched={touched} kept={save.isSuccess} />
        <Button kind="strong" type="submit" asked={save.isPending}>
          Set the hours
        </Button>
      </div>
    </form>
  );
}

/** One day: nobody, or from when to when, as often as somebody comes and goes. */
function Day({ name, spans, set }: { name: string; spans: Spans; set: (spans: Spans) => void }) {
  const change = (at: number, part: Partial<Spans[number]>) => set(spans.map((s, i) => (i === at ? { ...s, ...part } : s)));
  const last = spans.at(-1);
  return (
    <div className="flex min-h-9 flex-wrap items-center gap-x-2 gap-y-1 sm:gap-x-3">
      <span className="w-[5.5rem] sm:w-24">{name}</span>
      {spans.map((s, i) => (
        <span key={i} className="flex items-center gap-1.5">
          <Time label={`${name}, from`} value={s.begin} set={(begin) => change(i, { begin })} />
          <span className="text-faded">to</span>
          <Time label={`${name}, until`} value={s.end} set={(end) => change(i, { end })} />
        </span>
      ))}
      {!last ? (
        <>
          <span className="text-faded">nobody</span>
          <Button kind="quiet" onClick={() => set(WORKDAY)}>
            Somebody
          </Button>
        </>
      ) : (
        <Button kind="quiet" className="max-sm:px-2" aria-label={`${name}: nobody`} onClick={() => set([])}>
          <UserX size={16} className="sm:hidden" aria-hidden />
          <span className="max-sm:hidden">Nobody</span>
        </Button>
      )}
    </div>
  );
}

/** A time of day by the clock of twenty-four hours, as it is written everywhere else. */
function Time({ label, value, set }: { label: string; value: string; set: (value: string) => void }) {
  return (
    <input
      aria-label={label}
      className={`${field} w-16`}
      value={value}
      required
      pattern="([01]\d|2[0-4]):[0-5]\d"
      title="Hours and minutes, like 08:00"
      onChange={(e) => set(e.target.value)}
    />
  );
}
