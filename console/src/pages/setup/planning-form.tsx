import { useState } from "react";

import { api, type Planning, value } from "../../api/client";
import { useChange } from "../../api/queries";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";

const STRATEGIES: { key: Planning["strategy"]; text: string }[] = [
  { key: "first-come", text: "A machine that comes free takes the first in line that fits it." },
  { key: "due-first", text: "It takes what is due first of all that fits; the line decides where nothing is due." },
  {
    key: "hands-aware",
    text: "What would be late otherwise goes first. Of the rest: by day what ends while somebody is there, before people leave the longest that fits, and many short ones for machines that let go of their parts by themselves.",
  },
];

/** The strategy, what hands take, and the reasons there are for scrap. */
export function PlanningForm({ now }: { now: Planning }) {
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
          <label key={s.key} className={`flex cursor-pointer items-start gap-3 rounded-md border px-3.5 py-2.5 ${draft.strategy === s.key ? "border-ink" : "border-rule"}`}>
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
