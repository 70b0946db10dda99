import { useState } from "react";

import { api, type CatchRate, type FailureMode, type Follow, value, type WatchRule } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { duration, percent } from "../../ui/format";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useWatching } from "./queries";
import { followOf, KINDS, useWatchCurve, useWatchRule, useWatchRules, useWatchStanding } from "./watch-queries";
import { FollowChoice } from "./watch-rule";

/** What follows of suspicions, how careful the watch is, and which machines it does not see. */
export function WatchSetup() {
  const rule = useWatchRule("shop", "0");
  const standing = useWatchStanding().data;
  return (
    <Sheet className="min-w-0 scroll-mt-20">
      <span id="watch" />
      <SheetTitle beside={standing && `${percent(standing.share)} of a core now`}>The watch</SheetTitle>
      {rule.error ? (
        <Failed error={rule.error} again={() => rule.refetch()} />
      ) : !rule.data ? (
        <Loading rows={7} height="h-11" />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {!rule.data.rule.on && (
            <li className="px-5 py-2 text-alarm">
              It is off for the whole shop{rule.data.rule.reason ? `: ${rule.data.rule.reason}` : ""}. <code>chronarch watch follow shop --on</code> turns it on.
            </li>
          )}
          {KINDS.map((k) => (
            <FollowLine key={k.mode} kind={k} rule={rule.data.rule} />
          ))}
        </ul>
      )}
      <Own />
      <Careful />
      <Unwatched />
    </Sheet>
  );
}

function FollowLine({ kind: k, rule }: { kind: (typeof KINDS)[number]; rule: WatchRule }) {
  const follow: Partial<Record<FailureMode, Follow>> = rule.follow ?? {};
  const change = useChange(
    (to: Follow) =>
      value(
        api.PUT("/api/watch-rules/{scope}/{subject}", {
          params: { path: { scope: "shop", subject: "0" } },
          body: { ...rule, follow: { ...follow, [k.mode]: to } },
        }),
      ),
    "watch",
  );
  return (
    <li className="flex flex-wrap items-center justify-between gap-x-4 gap-y-1 px-5 py-2">
      <span>
        <span className="font-medium">{k.name}</span> <span className="text-sm text-faded">{k.says}</span>
      </span>
      <FollowChoice kind={k} value={followOf(rule, k.mode)} disabled={change.isPending} change={(to) => change.mutate(to)} />
      <Refusal error={change.error} />
    </li>
  );
}

/** Machines and jobs with a rule of their own. */
function Own() {
  const own = (useWatchRules().data ?? []).filter((r) => r.scope !== "shop");
  const drop = useChange(
    (which: { scope: "machine" | "job" | "shop"; subject: string }) =>
      value(api.DELETE("/api/watch-rules/{scope}/{subject}", { params: { path: which } })),
    "watch",
  );
  if (own.length === 0) return null;
  return (
    <ul className="m-0 list-none border-t border-rule px-5 py-2 text-sm">
      {own.map((r) => (
        <li key={`${r.scope} ${r.subject}`} className="flex justify-between gap-4 py-1">
          <span>
            {r.scope} {r.subject}: {r.rule.on ? "a rule of its own" : `off${r.rule.reason ? `, ${r.rule.reason}` : ""}`}
          </span>
          <button type="button" className="text-faded underline" onClick={() => drop.mutate({ scope: r.scope, subject: r.subject ?? "0" })}>
            forget
          </button>
        </li>
      ))}
    </ul>
  );
}

/** How many false alarms are put up with, and what is caught then. */
function Careful() {
  const watching = useWatching().data;
  const [draft, setDraft] = useState<string | null>(null);
  const typed = Number(draft);
  const curve = useWatchCurve(draft !== null && typed >= 0.02 && typed <= 1000 ? typed : undefined);
  const change = useChange(
    () => value(api.PATCH("/api/watching", { body: { false_alarms_a_week: Number(draft) } })).then(() => setDraft(null)),
    "watching",
    "watch",
  );
  const found = curve.data;
  if (!found) return curve.error ? <Failed error={curve.error} /> : <Loading rows={2} />;
  const week = found.building_h_per_week;
  const chosen = found.chosen;
  return (
    <form
      className="flex flex-col gap-3 border-t border-rule px-5 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(undefined);
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        <Field label="False alarms the shop puts up with, a week">
          <input
            className={`${inputLook} w-36`}
            type="number"
            min={0.02}
            max={1000}
            step="any"
            value={draft ?? (watching ? String(watching.false_alarms_a_week) : "")}
            onChange={(e) => setDraft(e.target.value)}
          />
        </Field>
        {draft !== null && (
          <Button kind="strong" type="submit" asked={change.isPending}>
            Set
          </Button>
        )}
      </div>
      <Curve points={found.points} week={week} chosen={chosen} />
      <p className="m-0 text-sm text-faded">
        With {Math.round(week)} h of building a week this raises what is at least <strong className="text-ink">{percent(chosen.threshold)}</strong> likely: about{" "}
        {(chosen.false_per_h * week).toFixed(1)} false alarms a week, <strong className="text-ink">{percent(chosen.caught)}</strong> of failures caught,{" "}
        {percent(chosen.in_time)} within ten minutes, usually after {duration(chosen.delay_s)}. Measured on drawn builds that the watch was not tuned on. Here people
        have answered: {found.right_here} right, {found.false_here} false, {found.missed_here} missed.
      </p>
      <Refusal error={change.error} />
    </form>
  );
}

/** The share of failures that is caught against false alarms a week, on a logarithmic axis. */
function Curve({ points, week, chosen }: { points: CatchRate[]; week: number; chosen: CatchRate }) {
  const [wide, high, left, foot] = [420, 132, 42, 22];
  const rates = points.map((p) => Math.max(p.false_per_h * week, 0.05));
  const least = Math.log10(Math.min(...rates, 0.5)) - 0.1;
  const most = Math.log10(Math.max(...rates, 10)) + 0.1;
  const x = (rate: number) => left + ((Math.log10(Math.max(rate, 0.05)) - least) / (most - least)) * (wide - left - 8);
  const y = (share: number) => 8 + (1 - share) * (high - foot - 8);
  const ticks = [0.1, 1, 10, 100, 1000].filter((t) => Math.log10(t) >= least && Math.log10(t) <= most);
  const line = (of: (p: CatchRate) => number) => points.map((p) => `${x(p.false_per_h * week).toFixed(1)},${y(of(p)).toFixed(1)}`).join(" ");
  return (
    <svg viewBox={`0 0 ${wide} ${high}`} role="img" aria-label="Failures caught against false alarms a week" className="w-full max-w-xl">
      {[0, 0.5, 1].map((s) => (
        <g key={s}>
          <line x1={left} x2={wide} y1={y(s)} y2={y(s)} stroke="var(--rule)" />
          <text x={left - 6} y={y(s)} dy="0.32em" textAnchor="end" fontSize={11} fill="var(--faded)">
            {Math.round(100 * s)} %
          </text>
        </g>
      ))}
      {ticks.map((t) => (
        <text key={t} x={x(t)} y={high - 6} textAnchor="middle" fontSize={11} fill="var(--faded)">
          {t} a week
        </text>
      ))}
      <polyline points={line((p) => p.caught)} fill="none" stroke="var(--ink)" strokeWidth={1.6} />
      <polyline points={line((p) => p.in_time)} fill="none" stroke="var(--ink)" strokeWidth={1.6} strokeDasharray="4 3" />
      <circle cx={x(chosen.false_per_h * week)} cy={y(chosen.caught)} r={5} fill="var(--ink)" stroke="var(--sheet)" strokeWidth={2} />
      <text x={wide - 4} y={y(Math.max(...points.map((p) => p.caught))) - 4} textAnchor="end" fontSize={11} fill="var(--ink)">
        caught
      </text>
      <text x={wide - 4} y={y(Math.max(...points.map((p) => p.in_time))) + 13} textAnchor="end" fontSize={11} fill="var(--ink)">
        within 10 min
      </text>
    </svg>
  );
}

/** Machines that the watch does not see, and why. */
function Unwatched() {
  const standing = useWatchStanding().data;
  const blind = (standing?.machines ?? []).filter((m) => !m.watching);
  const unseen = (standing?.machines ?? []).filter((m) => m.bed_unseen);
  if (!standing || standing.machines.length === 0) return null;
  return (
    <div className="border-t border-rule px-5 py-3 text-sm">
      {blind.length === 0 ? (
        <p className="m-0 text-faded">All {standing.machines.length} machines are watched while they build.</p>
      ) : (
        <>
          <p className="m-0 mb-1">
            {blind.length} of {standing.machines.length} machines are not watched:
          </p>
          <ul className="m-0 list-none p-0 text-faded">
            {blind.map((m) => (
              <li key={m.machine}>
                <span className="text-ink">{m.machine}</span>: {m.why_not}
              </li>
            ))}
          </ul>
        </>
      )}
      {unseen.length > 0 && (
        <>
          <p className="m-0 mt-3 mb-1">The beds of these are not looked at before a start:</p>
          <ul className="m-0 list-none p-0 text-faded">
            {unseen.map((m) => (
              <li key={m.machine}>
                <span className="text-ink">{m.machine}</span>: {m.bed_unseen}
              </li>
            ))}
          </ul>
        </>
      )}
    </div>
  );
}
