import { useState } from "react";

import { api, type FailureMode, type Follow, value, type WatchRule } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { followOf, KINDS, mayFollow, OF_BUILDS, useWatchRule } from "./watch-queries";

type Scope = "machine" | "job";

/** What follows of suspicions about a machine or a job, in a line, with a way to change it. */
export function WatchRuleLine({ scope, subject }: { scope: Scope; subject: string }) {
  const held = useWatchRule(scope, subject).data;
  const [open, setOpen] = useState(false);
  if (!held) return null;
  return (
    <span className="inline-flex flex-wrap items-baseline gap-x-2">
      <span>{inWords(held.rule)}</span>
      <button type="button" className="text-sm text-faded underline" onClick={() => setOpen(true)}>
        {held.own ? "change" : `as for the ${held.scope}; change`}
      </button>
      {open && <RuleDialog scope={scope} subject={subject} rule={held.rule} own={held.own ?? false} close={() => setOpen(false)} />}
    </span>
  );
}

function inWords(rule: WatchRule) {
  if (!rule.on) return `off${rule.reason ? `: ${rule.reason}` : ""}`;
  const done = (what: Follow) => OF_BUILDS.filter((k) => followOf(rule, k.mode) === what).map((k) => k.name.toLowerCase());
  const bed = { nothing: "does not look at the bed before a start", tell: "tells of a bed that is not clear, and starts all the same" };
  const said = [
    { what: "pauses for", kinds: done("pause") },
    { what: "leaves out for", kinds: done("leave-out") },
    { what: "takes no notice of", kinds: done("nothing") },
  ].filter((one) => one.kinds.length > 0);
  const ofBed = bed[followOf(rule, "not-clear") as keyof typeof bed];
  const all = [...said.map((one) => `${one.what} ${one.kinds.join(", ")}`), ...(ofBed ? [ofBed] : [])];
  return all.length > 0 ? all.join("; ") : "tells people";
}

function RuleDialog(props: { scope: Scope; subject: string; rule: WatchRule; own: boolean; close: () => void }) {
  const [rule, setRule] = useState(props.rule);
  const follow: Partial<Record<FailureMode, Follow>> = rule.follow ?? {};
  const path = { path: { scope: props.scope, subject: props.subject } };
  const save = useChange(() => value(api.PUT("/api/watch-rules/{scope}/{subject}", { params: path, body: rule })).then(props.close), "watch");
  const forget = useChange(() => value(api.DELETE("/api/watch-rules/{scope}/{subject}", { params: path })).then(props.close), "watch");
  return (
    <FormDialog
      title={`What the watch does for this ${props.scope}`}
      close={props.close}
      send={() => save.mutate(undefined)}
      asked={save.isPending}
      error={save.error ?? forget.error}
      action="Set"
    >
      <label className="flex items-center gap-2">
        <input type="checkbox" checked={rule.on} onChange={(e) => setRule({ ...rule, on: e.target.checked, reason: "" })} /> Its builds are watched
      </label>
      {rule.on ? (
        <ul className="m-0 flex list-none flex-col gap-2 p-0">
          {(props.scope === "job" ? OF_BUILDS : KINDS).map((k) => (
            <li key={k.mode} className="flex flex-wrap items-center justify-between gap-x-4">
              <span className="font-medium">{k.name}</span>
              <FollowChoice kind={k} value={followOf(rule, k.mode)} change={(to) => setRule({ ...rule, follow: { ...follow, [k.mode]: to } })} />
            </li>
          ))}
        </ul>
      ) : (
        <Field label="Why, if you wish">
          <input className={inputLook} maxLength={200} value={rule.reason ?? ""} onChange={(e) => setRule({ ...rule, reason: e.target.value })} />
        </Field>
      )}
      {props.own && (
        <Button kind="quiet" className="-ml-3.5 self-start" asked={forget.isPending} onClick={() => forget.mutate(undefined)}>
          As for everything else
        </Button>
      )}
    </FormDialog>
  );
}

/** What follows when something of one kind is suspected. */
export function FollowChoice(props: { kind: (typeof KINDS)[number]; value: Follow; disabled?: boolean; change: (to: Follow) => void }) {
  return (
    <select
      aria-label={`When ${props.kind.name.toLowerCase()} is suspected`}
      className="min-h-9 w-48 rounded-md border border-rule bg-ground px-2 text-ink"
      value={props.value}
      disabled={props.disabled}
      onChange={(e) => props.change(e.target.value as Follow)}
    >
      {mayFollow(props.kind).map(([f, words]) => (
        <option key={f} value={f}>
          {words}
        </option>
      ))}
    </select>
  );
}
