import { api, type SiteHours, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { useDraft } from "../../ui/draft";
import { day, writesDates } from "../../ui/format";
import { Failed, HowKept, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useMay } from "../../api/may";
import { useCostSettings } from "../ledger/queries";
import { useHours } from "../planning/queries";
import { useShop } from "./queries";

/** Languages that are offered for dates; a file or a command can name any other. */
const LANGUAGES = ["en-GB", "en-US", "de-DE", "fr-FR", "es-ES", "it-IT", "nl-NL", "pt-PT", "pl-PL", "cs-CZ", "sv-SE", "da-DK", "fi-FI", "ja-JP"];
const NAMES = new Intl.DisplayNames(["en"], { type: "language" });
const EXAMPLE = "2026-10-23T12:00";
/** As where nobody has said when somebody is there. */
const ALWAYS: SiteHours["week"] = Array.from({ length: 7 }, () => [{ begin: "00:00", end: "24:00" }]);

interface Shop {
  name: string;
  dates: string;
  zone: string;
  currency: string;
}

/** What the shop is called, where it is, its money, and how dates are written. */
export function ShopSetup() {
  if (useMay()("set_up") !== null) return null;
  return (
    <Sheet className="min-w-0">
      <SheetTitle>The shop</SheetTitle>
      <ShopForm />
    </Sheet>
  );
}

/** The same as a step: `kept` is called once it is set. */
export function ShopForm({ kept: done, action = "Set the shop" }: { kept?: () => void; action?: string }) {
  const shop = useShop();
  const hours = useHours();
  const costs = useCostSettings();
  const failed = shop.error ?? hours.error ?? costs.error;
  if (failed) return <Failed error={failed} />;
  if (!shop.data || !hours.data || !costs.data) return <Loading rows={4} />;
  const own = hours.data.find((h) => !h.site);
  const kept = { name: shop.data.name, dates: shop.data.dates ?? "en-GB", zone: own?.zone ?? "", currency: costs.data.currency ?? "EUR" };
  return <Form kept={kept} hours={own} done={done} action={action} />;
}

function Form({ kept, hours, done, action }: { kept: Shop; hours?: SiteHours; done?: () => void; action: string }) {
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const { now, typed, touched, type, sent } = useDraft(kept);
  const zone = now.zone || here;
  const costs = useCostSettings().data;
  const save = useChange(
    async () => {
      await value(api.PATCH("/api/shop", { body: { name: now.name.trim(), dates: now.dates } }));
      if (zone !== kept.zone) await value(api.PUT("/api/hours", { body: { people: 1, days: {}, site: "", week: ALWAYS, ...hours, zone } }));
      if (costs && now.currency !== kept.currency) await value(api.PUT("/api/costs/settings", { body: { ...costs, currency: now.currency } }));
    },
    "shop", "setup", "costs", "first-steps",
  );
  const languages = [...new Set([kept.dates, ...LANGUAGES])].filter(writesDates);
  return (
    <form
      className="flex flex-col gap-4 px-5 pb-5"
      onSubmit={(e) => {
        e.preventDefault();
        save.mutate(undefined, {
          onSuccess: () => {
            sent(typed);
            done?.();
          },
        });
      }}
    >
      <Field label="What the shop is called" hint="On every page, in messages and reports.">
        <input className={inputLook} value={now.name} onChange={(e) => type({ name: e.target.value })} required maxLength={60} />
      </Field>
      <div className="grid gap-4 sm:grid-cols-2">
        <Field label="Time zone" hint="Hours and days are counted in it.">
          <input className={inputLook} list="zones" value={zone} onChange={(e) => type({ zone: e.target.value })} required maxLength={60} autoComplete="off" />
        </Field>
        <Field label="Currency" hint="Prices and costs are in it; nothing is converted.">
          <input
            className={`${inputLook} uppercase`}
            list="currencies"
            value={now.currency}
            onChange={(e) => type({ currency: e.target.value.toUpperCase() })}
            required
            pattern="[A-Z]{3}"
            title="Three letters, as in EUR"
            maxLength={3}
            autoComplete="off"
          />
        </Field>
      </div>
      <Field label="Days and months are written as in" hint={`${day(EXAMPLE, now.dates)}, 14:05`}>
        <select className={inputLook} value={now.dates} onChange={(e) => type({ dates: e.target.value })}>
          {languages.map((tag) => (
            <option key={tag} value={tag}>
              {NAMES.of(tag)}
            </option>
          ))}
        </select>
      </Field>
      <datalist id="zones">
        {Intl.supportedValuesOf("timeZone").map((z) => (
          <option key={z} value={z} />
        ))}
      </datalist>
      <datalist id="currencies">
        {Intl.supportedValuesOf("currency").map((c) => (
          <option key={c} value={c} />
        ))}
      </datalist>
      <Refusal error={save.error} />
      <div className="flex items-center justify-end gap-3">
        <HowKept touched={touched} kept={save.isSuccess} />
        <Button kind="strong" type="submit" asked={save.isPending}>
          {action}
        </Button>
      </div>
    </form>
  );
}

