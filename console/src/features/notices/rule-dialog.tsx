import { type ReactNode, useState } from "react";

import { api, type Channel, type Gravity, type NoticeKind, type NoticeRule, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Choice } from "../../ui/choice";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Refusal } from "../../ui/page";
import { Picked } from "../../ui/picked";
import { useMachines } from "../machines/queries";
import { useOpenOrders } from "../orders/queries";
import { GravityMark } from "./notice-row";
import { useNoticeKinds, useTrial } from "./queries";
import { DAY_NAMES, GRAVITIES, GRAVITY } from "./words";

const small = "min-h-9 rounded-md border border-rule bg-ground px-2 text-ink";
/** The numbers that somebody typed, apart by commas. */
const numbers = (text: string) => [...new Set(text.split(",").map(Number))].filter((n) => Number.isInteger(n) && n > 0);
/** Names to pick from, each once. */
const named = (names: (string | undefined)[]) =>
  [...new Set(names)].flatMap((name) => (name ? [{ key: name, name }] : [])).sort((a, b) => a.name.localeCompare(b.name));

/** A rule: of what, over which channels, when, and who is next; with what it would have told last week. */
export function RuleDialog(props: { rule: NoticeRule; number: number | null; person: string | null; channels: Channel[]; close: () => void }) {
  const [rule, setRule] = useState(props.rule);
  const set = (change: Partial<NoticeRule>) => setRule((before) => ({ ...before, ...change }));
  const kinds = useNoticeKinds().data ?? [];
  const machines = useMachines().data ?? [];
  const orders = (useOpenOrders().data ?? []).map((o) => ({ key: o.id, name: `${o.id} ${o.customer}` }));
  const send = useChange(
    () =>
      (props.number === null
        ? value(api.POST("/api/notice-rules", { body: { rule, person: props.person } }))
        : value(api.PUT("/api/notice-rules/{number}", { params: { path: { number: props.number } }, body: rule }))
      ).then(props.close),
    "notice-rules",
  );
  const chosen = new Set<string>(rule.kinds ?? []);
  const toggle = (kind: NoticeKind) => {
    if (chosen.has(kind)) chosen.delete(kind);
    else chosen.add(kind);
    set({ kinds: [...chosen] as NoticeKind[] });
  };
  const counted = (kind: NoticeKind) => chosen.has(kind);
  return (
    <Dialog open wide close={props.close} title={props.number === null ? "A new rule" : "Change the rule"}>
      <form
        className="flex flex-col gap-5"
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate(undefined);
        }}
      >
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Name">
            <input className={inputLook} maxLength={60} value={rule.name} placeholder="Nights" onChange={(e) => set({ name: e.target.value })} />
          </Field>
          <Field label="How grave at least">
            <select className={inputLook} value={rule.least} onChange={(e) => set({ least: e.target.value as Gravity })}>
              {GRAVITIES.map((g) => (
                <option key={g} value={g}>
                  {g === "note" ? "anything" : g === "urgent" ? GRAVITY[g] : `${GRAVITY[g]} or graver`}
                </option>
              ))}
            </select>
          </Field>
        </div>
        <Part name="Of what" hint={chosen.size === 0 ? "Nothing chosen: of every kind that is grave enough." : undefined}>
          <div className="grid max-h-56 grid-cols-1 gap-x-4 overflow-auto rounded-md border border-rule px-3 py-2 sm:grid-cols-2">
            {kinds.map((k) => (
              <label key={k.kind} className="flex min-h-8 items-center gap-2 text-sm">
                <input type="checkbox" checked={chosen.has(k.kind)} onChange={() => toggle(k.kind)} />
                {k.text}
              </label>
            ))}
          </div>
          {(counted("progress") || counted("hands-soon")) && (
            <div className="flex flex-wrap gap-4">
              {counted("progress") && (
                <Field label="At so many percent">
                  <Listed value={rule.percent ?? []} change={(percent) => set({ percent })} most={99} />
                </Field>
              )}
              {counted("hands-soon") && (
                <Field label="So many minutes before">
                  <Listed value={rule.minutes_before ?? []} change={(minutes_before) => set({ minutes_before })} most={1440} />
                </Field>
              )}
            </div>
          )}
        </Part>
        <Part name="About which machines and orders">
          <div className="grid gap-3 sm:grid-cols-4">
            <Picked label="Machines" value={rule.machines ?? []} options={named(machines.map((m) => m.name))} change={(list) => set({ machines: list })} />
            <Picked label="Pools" value={rule.pools ?? []} options={named(machines.flatMap((m) => m.pools))} change={(list) => set({ pools: list })} />
            <Picked label="Sites" value={rule.sites ?? []} options={named(machines.map((m) => m.site))} change={(list) => set({ sites: list })} />
            <Picked label="Orders" value={rule.orders ?? []} options={orders} change={(list) => set({ orders: list })} />
          </div>
        </Part>
        <Part name="Over" hint={(rule.channels ?? []).length === 0 ? "Nothing chosen: the bell." : undefined}>
          <div className="flex flex-wrap gap-x-5 gap-y-1">
            {props.channels.map((c) => (
              <label key={c.id} className="flex min-h-8 items-center gap-2 text-sm">
                <input
                  type="checkbox"
                  checked={(rule.channels ?? []).includes(c.id)}
                  onChange={(e) =>
                    set({ channels: e.target.checked ? [...(rule.channels ?? []), c.id] : (rule.channels ?? []).filter((n) => n !== c.id) })
                  }
                />
                {c.kind === "page" ? "the bell" : c.name} <span className="text-faded">{c.address}</span>
              </label>
            ))}
          </div>
        </Part>
        <Part name="When">
          <div className="flex flex-wrap items-center gap-2 text-sm">
            <Choice
              label="How soon"
              options={[
                { key: "at-once", name: "At once" },
                { key: "gathered", name: "Gathered" },
                { key: "daily", name: "Once a day" },
              ]}
              value={rule.pace ?? "at-once"}
              choose={(k) => set({ pace: k as NoticeRule["pace"] })}
            />
            {rule.pace === "gathered" && (
              <label className="flex items-center gap-2">
                every <input aria-label="Minutes gathered" type="number" min={1} max={1440} className={`${small} w-20`} value={rule.every_min} onChange={(e) => set({ every_min: Number(e.target.value) })} /> min
              </label>
            )}
            {rule.pace === "daily" && (
              <label className="flex items-center gap-2">
                at <Clock label="Told at" value={rule.daily_at ?? "08:00"} change={(daily_at) => set({ daily_at })} />
              </label>
            )}
          </div>
          <div className="flex flex-wrap items-center gap-2 text-sm">
            <Choice
              label="Within which hours"
              options={[
                { key: "always", name: "At any hour" },
                { key: "shift", name: "While somebody is there" },
                { key: "own-hours", name: "In my hours" },
              ]}
              value={rule.during ?? "always"}
              choose={(k) => set({ during: k as NoticeRule["during"] })}
            />
            {rule.during === "own-hours" && (
              <>
                <Clock label="Hours begin" value={rule.begin ?? "08:00"} change={(begin) => set({ begin })} /> to{" "}
                <Clock label="Hours end" value={rule.end ?? "18:00"} change={(end) => set({ end })} />
                <span className="flex">
                  {DAY_NAMES.map((name, n) => (
                    <button
                      key={name}
                      type="button"
                      aria-pressed={(rule.days ?? []).includes(n)}
                      className="min-h-8 rounded-md px-1.5 text-faded aria-pressed:bg-sunk aria-pressed:font-semibold aria-pressed:text-ink"
                      onClick={() => {
                        const days = new Set(rule.days ?? []);
                        if (days.has(n)) days.delete(n);
                        else days.add(n);
                        set({ days: [...days].sort() });
                      }}
                    >
                      {name}
                    </button>
                  ))}
                </span>
              </>
            )}
          </div>
          <label className="flex flex-wrap items-center gap-2 text-sm">
            <input type="checkbox" checked={!!rule.quiet} onChange={(e) => set({ quiet: e.target.checked ? { begin: "22:00", end: "07:00" } : null })} />
            Quiet hours, which only what is urgent breaks
            {rule.quiet && (
              <>
                <Clock label="Quiet begins" value={rule.quiet.begin ?? "22:00"} change={(begin) => set({ quiet: { end: "07:00", ...rule.quiet, begin } })} /> to{" "}
                <Clock label="Quiet ends" value={rule.quiet.end ?? "07:00"} change={(end) => set({ quiet: { begin: "22:00", ...rule.quiet, end } })} />
              </>
            )}
          </label>
          <p className="m-0 text-sm text-faded">What comes at another time waits until then, and comes as one message.</p>
        </Part>
        <Part name="If nobody goes">
          {(rule.next_steps ?? []).map((step, i) => (
            <NextStep
              key={i}
              step={step}
              channels={props.channels}
              change={(next) => set({ next_steps: (rule.next_steps ?? []).map((s, n) => (n === i ? next : s)) })}
              remove={() => set({ next_steps: (rule.next_steps ?? []).filter((_, n) => n !== i) })}
            />
          ))}
          {(rule.next_steps ?? []).length < 5 && (
            <Button
              kind="quiet"
              className="self-start"
              onClick={() => set({ next_steps: [...(rule.next_steps ?? []), { after_min: 10, person: "", channel: props.channels[0]?.id ?? null }] })}
            >
              Tell somebody else after a while…
            </Button>
          )}
        </Part>
        <Trial rule={rule} person={props.person} />
        <Refusal error={send.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={props.close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={send.isPending}>
            {props.number === null ? "Add" : "Set"}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function Part({ name, hint, children }: { name: string; hint?: string; children: ReactNode }) {
  return (
    <fieldset className="m-0 flex min-w-0 flex-col gap-2 border-0 p-0">
      <legend className="mb-1 p-0 text-sm font-medium">{name}</legend>
      {children}
      {hint && <p className="m-0 text-sm text-faded">{hint}</p>}
    </fieldset>
  );
}

function Clock({ label, value: at, change }: { label: string; value: string; change: (to: string) => void }) {
  return <input type="time" aria-label={label} className={`${small} w-28`} value={at} onChange={(e) => e.target.value && change(e.target.value)} />;
}

/** Numbers, typed with commas between; what is not a number yet is kept until the field is left. */
function Listed({ id, value: list, change, most }: { id?: string; value: number[]; change: (to: number[]) => void; most: number }) {
  const [draft, setDraft] = useState<string | null>(null);
  return (
    <input
      id={id}
      className={inputLook}
      inputMode="numeric"
      value={draft ?? list.join(", ")}
      onChange={(e) => {
        setDraft(e.target.value);
        change(numbers(e.target.value).filter((n) => n <= most).slice(0, 10));
      }}
      onBlur={() => setDraft(null)}
    />
  );
}

type Step = NonNullable<NoticeRule["next_steps"]>[number];

function NextStep(props: { step: Step; channels: Channel[]; change: (to: Step) => void; remove: () => void }) {
  const { step } = props;
  const toPerson = step.channel === null || step.channel === undefined;
  return (
    <div className="flex flex-wrap items-center gap-2 text-sm">
      after
      <input aria-label="Minutes until then" type="number" min={1} max={1440} className={`${small} w-20`} value={step.after_min} onChange={(e) => props.change({ ...step, after_min: Number(e.target.value) })} />
      min tell
      <select
        aria-label="Who is told then"
        className={small}
        value={toPerson ? "person" : String(step.channel)}
        onChange={(e) =>
          props.change(e.target.value === "person" ? { ...step, channel: null, person: step.person || "" } : { ...step, channel: Number(e.target.value), person: "" })
        }
      >
        {props.channels.map((c) => (
          <option key={c.id} value={c.id}>
            {c.kind === "page" ? "me, on the bell" : `me, over ${c.name}`}
          </option>
        ))}
        <option value="person">another person</option>
      </select>
      {toPerson && (
        <input aria-label="What they sign in with" className={`${small} w-36`} placeholder="signs in as" value={step.person ?? ""} onChange={(e) => props.change({ ...step, person: e.target.value })} />
      )}
      <Button kind="quiet" onClick={props.remove}>
        Remove
      </Button>
    </div>
  );
}

/** What the rule would have told in the week before. */
function Trial({ rule, person }: { rule: NoticeRule; person: string | null }) {
  const now = useNow(60_000);
  const ready = (rule.next_steps ?? []).every((s) => s.channel || s.person);
  const found = useTrial(ready ? rule : { ...rule, next_steps: [] }, person);
  if (found.error) return <p className="m-0 text-sm text-faded">{found.error.message}</p>;
  if (!found.data) return <p className="m-0 text-sm text-faded">Trying it on the last week…</p>;
  const { notices: n, messages: m, newest } = found.data;
  return (
    <div className="rounded-md bg-sunk px-4 py-3">
      <p className="m-0 text-sm">
        In the last week it would have told of <strong>{n}</strong> {n === 1 ? "notice" : "notices"} in <strong>{m}</strong> {m === 1 ? "message" : "messages"}.
      </p>
      <ul className="m-0 mt-1 list-none p-0 text-sm text-faded">
        {newest.slice(0, 3).map((one) => (
          <li key={one.id} className="flex items-baseline gap-2 truncate">
            <GravityMark notice={one} /> <span className="truncate">{one.text}</span> <span className="whitespace-nowrap">{when(one.at, now)}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}
