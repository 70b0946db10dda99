import { useState } from "react";

import type { components } from "../../api/schema";
import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { fromLocal, percent, when } from "../../ui/format";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { TimeField } from "../../ui/time-field";
import { PER } from "./money";
import { useCostRates, useCostSettings } from "./queries";

type CostRate = components["schemas"]["CostRate"];
type CostSettings = components["schemas"]["CostSettings-Output"];
type Kind = CostRate["kind"];

const KINDS: { kind: Kind; name: string; of: string }[] = [
  { kind: "material", name: "material, a kg", of: "Material; all without it" },
  { kind: "energy", name: "energy, a kWh", of: "Site; all without it" },
  { kind: "machine", name: "a machine's hour", of: "Model; all without it" },
  { kind: "hands", name: "a minute of hands", of: "" },
  { kind: "overhead", name: "overhead, %", of: "" },
];

/** Prices with the day from which each holds; what builds cost follows from them. */
export function Prices() {
  const rates = useCostRates();
  const settings = useCostSettings();
  const [setting, setSetting] = useState(false);
  const [choosing, setChoosing] = useState(false);
  const now = useNow(60_000);
  const forget = useChange((number: number) => value(api.DELETE("/api/costs/rates/{number}", { params: { path: { number } } })), "costs");
  return (
    <Sheet className="min-w-0">
      <SheetTitle
        beside={
          <button type="button" className="text-ink underline" onClick={() => setSetting(true)}>
            Set a price
          </button>
        }
      >
        <span id="prices">Prices</span>
      </SheetTitle>
      {rates.error ? (
        <Failed error={rates.error} again={() => rates.refetch()} />
      ) : !rates.data || !settings.data ? (
        <Loading rows={4} height="h-11" />
      ) : rates.data.length === 0 ? (
        <Empty title="There are no prices">With the price of a kilogram, a kWh, a machine&apos;s hour and a minute of hands, each build says what it cost.</Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {rates.data.map((r) => (
            <li key={r.id} className="grid grid-cols-[1fr_auto_auto] items-center gap-x-4 px-5 py-1.5">
              <span className="min-w-0">
                {r.kind === "hands" || r.kind === "overhead" ? r.kind : `${r.kind}: ${r.subject || "all others"}`}{" "}
                <span className="text-sm text-faded max-sm:block">since {when(r.since, now)}</span>
              </span>
              <span className="text-right">{said(r, settings.data.currency)}</span>
              <Button kind="quiet" onClick={() => forget.mutate(r.id)} aria-label={`Take the price of ${r.subject || r.kind} away`}>
                Take away
              </Button>
            </li>
          ))}
        </ul>
      )}
      {settings.data && (
        <p className="mx-5 mt-2 mb-4 text-sm text-faded">
          In {settings.data.currency}, down to {settings.data.step}; prices with a margin of {percent(Number(settings.data.margin))}.{" "}
          <button type="button" className="underline" onClick={() => setChoosing(true)}>
            Change
          </button>
        </p>
      )}
      {setting && <SetPrice close={() => setSetting(false)} />}
      {choosing && settings.data && <Choose now={settings.data} close={() => setChoosing(false)} />}
    </Sheet>
  );
}

function said(r: CostRate, currency: string): string {
  if (r.kind === "overhead") return `${percent(Number(r.price), 1)} ${PER[r.kind]}`;
  const hours = r.hours.map((h) => `, ${h.begin}–${h.end} h ${Number(h.price)}`).join("");
  return `${Number(r.price)} ${currency} ${PER[r.kind]}${hours}`;
}

function SetPrice({ close }: { close: () => void }) {
  const [kind, setKind] = useState<Kind>("material");
  const [subject, setSubject] = useState("");
  const [price, setPrice] = useState("");
  const [since, setSince] = useState("");
  const [night, setNight] = useState({ begin: "", end: "", price: "" });
  const [typed, setTyped] = useState(true);
  const [hour, setHour] = useState({ purchase: "", life_h: "", upkeep_h: "0" });
  const known = KINDS.find((k) => k.kind === kind)!;
  const set = useChange(
    () =>
      value(
        api.POST("/api/costs/rates", {
          body: {
            kind,
            subject: known.of ? subject.trim() : "",
            since: since ? fromLocal(since).toISOString() : null,
            price: kind === "machine" && !typed ? null : kind === "overhead" ? String(Number(price) / 100) : price,
            machine: kind === "machine" && !typed ? hour : null,
            hours: kind === "energy" && night.price ? [{ begin: Number(night.begin), end: Number(night.end), price: night.price }] : [],
          },
        }),
      ).then(close),
    "costs",
  );
  const number = (label: string, now: string, change: (wish: string) => void, hint?: string) => (
    <Field label={label} hint={hint}>
      <input className={inputLook} inputMode="decimal" required value={now} onChange={(e) => change(e.target.value.replace(",", "."))} />
    </Field>
  );
  return (
    <FormDialog title="Set a price" text="What builds cost since then is worked out anew." close={close} send={() => set.mutate(undefined)} asked={set.isPending} error={set.error} action="Set it">
      <div className="grid grid-cols-2 gap-3">
        <Field label="Of">
          <select className={inputLook} value={kind} onChange={(e) => setKind(e.target.value as Kind)}>
            {KINDS.map((k) => (
              <option key={k.kind} value={k.kind}>
                {k.name}
              </option>
            ))}
          </select>
        </Field>
        {known.of ? (
          <Field label={known.of}>
            <input className={inputLook} maxLength={60} value={subject} onChange={(e) => setSubject(e.target.value)} />
          </Field>
        ) : (
          <span />
        )}
        {kind === "machine" && (
          <label className="col-span-2 flex items-center gap-2 text-sm">
            <input type="checkbox" checked={!typed} onChange={(e) => setTyped(!e.target.checked)} /> from purchase, life and upkeep
          </label>
        )}
        {kind === "machine" && !typed ? (
          <>
            {number("Purchase", hour.purchase, (purchase) => setHour({ ...hour, purchase }))}
            {number("Hours of its life", hour.life_h, (life_h) => setHour({ ...hour, life_h }))}
            {number("Upkeep an hour", hour.upkeep_h, (upkeep_h) => setHour({ ...hour, upkeep_h }))}
          </>
        ) : (
          number(kind === "overhead" ? "Percent" : "Price", price, setPrice)
        )}
        <Field label="Since" hint="now without it">
          <TimeField value={since} change={setSince} />
        </Field>
      </div>
      {kind === "energy" && (
        <fieldset className="m-0 grid grid-cols-3 gap-3 border-0 p-0">
          <legend className="mb-1 p-0 text-sm text-faded">Another price for some hours, if there is one</legend>
          {(["begin", "end", "price"] as const).map((name) => (
            <Field key={name} label={{ begin: "From, h", end: "To, h", price: "Price" }[name]}>
              <input className={inputLook} inputMode="decimal" value={night[name]} onChange={(e) => setNight({ ...night, [name]: e.target.value.replace(",", ".") })} />
            </Field>
          ))}
        </fieldset>
      )}
    </FormDialog>
  );
}

function Choose({ now, close }: { now: CostSettings; close: () => void }) {
  const [currency, setCurrency] = useState(now.currency);
  const [margin, setMargin] = useState(String(Number(now.margin) * 100));
  const [step, setStep] = useState(String(now.step));
  const change = useChange(() => value(api.PUT("/api/costs/settings", { body: { currency: currency.toUpperCase(), margin: String(Number(margin) / 100), step } })).then(close), "costs");
  return (
    <FormDialog title="What prices are in" text="Nothing is converted: the same figures, in another currency." close={close} send={() => change.mutate(undefined)} asked={change.isPending} error={change.error} action="Keep it">
      <div className="grid grid-cols-3 gap-3">
        <Field label="Currency">
          <input className={inputLook} maxLength={3} value={currency} onChange={(e) => setCurrency(e.target.value)} />
        </Field>
        <Field label="Smallest amount">
          <input className={inputLook} inputMode="decimal" value={step} onChange={(e) => setStep(e.target.value)} />
        </Field>
        <Field label="Margin, %">
          <input className={inputLook} inputMode="decimal" value={margin} onChange={(e) => setMargin(e.target.value)} />
        </Field>
      </div>
    </FormDialog>
  );
}
