import { api, type Planning, type StrategyMeaning, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { useDraft } from "../../ui/draft";
import { HowKept, Refusal } from "../../ui/page";

const NOZZLE = String.raw`\s*\d+(\.\d+)?(\s*hardened)?\s*`;

/** What is in the drawer as it is typed: `0.6, 0.4 hardened`. */
const typed = (nozzles: Planning["spare_nozzles"]) => (nozzles ?? []).map((n) => `${n.nozzle_mm}${n.hardened ? " hardened" : ""}`).join(", ");
const read = (text: string) =>
  text
    .split(",")
    .filter((t) => t.trim())
    .map((t) => ({ nozzle_mm: parseFloat(t), hardened: t.includes("hardened") }));

/** Each setting as its field shows it. */
const fields = (p: Planning) => ({
  strategy: p.strategy,
  clear_min: p.clear_min,
  spool_min: p.spool_min,
  nozzle_min: p.nozzle_min,
  walk_min: p.walk_min,
  nozzles: typed(p.spare_nozzles),
  reasons: (p.scrap_reasons ?? []).join("\n"),
});
type Fields = ReturnType<typeof fields>;

/** The strategy, what hands take, the nozzles there are, and the reasons for scrap. */
export function PlanningForm({ now, strategies }: { now: Planning; strategies: StrategyMeaning[] }) {
  const draft = useDraft(fields(now));
  const save = useChange(
    ({ nozzles, reasons, ...rest }: Partial<Fields>) =>
      value(
        api.PATCH("/api/planning", {
          body: {
            ...rest,
            spare_nozzles: nozzles === undefined ? undefined : read(nozzles),
            scrap_reasons: reasons?.split("\n").map((r) => r.trim()).filter(Boolean),
          },
        }),
      ),
    "setup",
    "plan",
    "jobs",
  );
  const numbers: [keyof Fields, string][] = [
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
        const sent = draft.typed;
        save.mutate(sent, { onSuccess: () => draft.sent(sent) });
      }}
    >
      <div role="radiogroup" aria-label="Strategy" className="flex flex-col gap-2">
        {strategies.map((s) => (
          <label key={s.strategy} className={`flex cursor-pointer items-start gap-3 rounded-md border px-3.5 py-2.5 ${draft.now.strategy === s.strategy ? "border-ink" : "border-rule"}`}>
            <input type="radio" name="strategy" className="mt-1" checked={draft.now.strategy === s.strategy} onChange={() => draft.type({ strategy: s.strategy })} />
            <span>
              <strong>{s.strategy}</strong>
              <span className="block text-sm text-faded">{s.meaning}</span>
            </span>
          </label>
        ))}
      </div>
      <div className="grid grid-cols-2 items-end gap-3">
        {numbers.map(([key, text]) => (
          <Field key={key} label={`Minutes ${text}`}>
            <input
              className={inputLook}
              type="number"
              min={0}
              max={600}
              step={0.5}
              value={Number(draft.now[key])}
              onChange={(e) => draft.type({ [key]: Number(e.target.value) })}
            />
          </Field>
        ))}
      </div>
      <Field label="Nozzles in the drawer, mm" hint="What the plan may have hands put on. Commas between.">
        <input
          className={inputLook}
          value={draft.now.nozzles}
          placeholder="0.6, 0.4 hardened"
          pattern={`\\s*|${NOZZLE}(,${NOZZLE})*`}
          title="Diameters in mm, like 0.6, 0.4 hardened"
          onChange={(e) => draft.type({ nozzles: e.target.value })}
        />
      </Field>
      <Field label="Reasons for scrap" hint="One a line; they are offered on the rounds.">
        <textarea className={`${inputLook} min-h-40 py-2`} value={draft.now.reasons} onChange={(e) => draft.type({ reasons: e.target.value })} />
      </Field>
      <Refusal error={save.error} />
      <div className="flex items-center justify-end gap-3">
        <HowKept touched={draft.touched} kept={save.isSuccess} />
        <Button kind="strong" type="submit" asked={save.isPending}>
          Set
        </Button>
      </div>
    </form>
  );
}
