import { type ReactNode, useState } from "react";

import { api, type FilmRule, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { size } from "../../ui/format";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { FilmRuleLine, RuleDialog } from "./film-rule";
import { filmWords, useFilmRules, useFilmStanding } from "./film-queries";
import { useWatching } from "./queries";

/** How films are made everywhere, what has a rule of its own, and what films may take of the disk. */
export function FilmsSetup() {
  const rules = (useFilmRules().data ?? []).filter((r) => r.scope !== "shop");
  const [changing, setChanging] = useState<FilmRule | null>(null);
  return (
    <Sheet className="min-w-0 scroll-mt-20">
      <span id="films" />
      <SheetTitle beside="a job, an order, a file or a machine may have its own">Films</SheetTitle>
      <dl className="m-0 px-5 pb-3">
        <Line name="Of every build">
          <FilmRuleLine scope="shop" subject="0" />
        </Line>
        {rules.map((r) => (
          <Line key={`${r.scope} ${r.subject}`} name={r.scope === "machine" ? r.name || r.subject : `${r.scope} ${r.name || r.subject}`}>
            {filmWords(r.settings)}{" "}
            <button type="button" className="text-sm text-faded underline" onClick={() => setChanging(r)}>
              change
            </button>
          </Line>
        ))}
      </dl>
      <Share />
      {changing && <RuleDialog scope={changing.scope} subject={changing.subject} rule={changing} close={() => setChanging(null)} />}
    </Sheet>
  );
}

function Line({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="flex justify-between gap-6 border-b border-rule py-2 last:border-0">
      <dt className="shrink-0 text-faded">{name}</dt>
      <dd className="m-0 text-right">{children}</dd>
    </div>
  );
}

function Share() {
  const watching = useWatching().data;
  const standing = useFilmStanding().data;
  const [draft, setDraft] = useState<string | null>(null);
  const change = useChange(
    () => value(api.PATCH("/api/watching", { body: { films_gb: Number(draft) } })).then(() => setDraft(null)),
    "watching",
    "films",
  );
  return (
    <form
      className="flex flex-wrap items-end gap-3 border-t border-rule px-5 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(undefined);
      }}
    >
      <Field label="Films may take, GB">
        <input
          className={`${inputLook} w-36`}
          type="number"
          min={0.1}
          step="any"
          value={draft ?? (watching ? String(watching.films_gb) : "")}
          onChange={(e) => setDraft(e.target.value)}
        />
      </Field>
      {draft !== null && (
        <Button kind="strong" type="submit" asked={change.isPending}>
          Set
        </Button>
      )}
      {standing && (
        <p className="m-0 min-w-48 flex-1 text-sm text-faded">
          Now {standing.films} take {size(standing.now_gb * 1e9)}. When they take more the oldest go, but for those that are kept
          {standing.kept_gb > 0 ? ` (${size(standing.kept_gb * 1e9)})` : ""}.
        </p>
      )}
      <Refusal error={change.error} />
    </form>
  );
}
