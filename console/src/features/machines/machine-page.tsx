import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";

import { api, type KeptFrame, type MachineDetail, value } from "../../api/client";
import { useLive, useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useLedger } from "../ledger/queries";
import { type Span, useMachineNow } from "./queries";
import { useBuilds } from "../orders/queries";
import { useBuildMarks } from "../watching/marks";
import { MachinePicture } from "../watching/machine-picture";
import { Suspicions } from "../watching/suspicion-card";
import { useWatchRule, useWatchStanding } from "../watching/watch-queries";
import { clock, degrees, duration, percent, when, width } from "../../ui/format";
import { Empty, Fact, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { MEANING, StateMark } from "../../ui/state";
import { makeAxis } from "../../ui/time-axis";
import { AxisHead, AxisRules, Timeline } from "../../ui/time-line";
import { Adjust } from "../control/adjust";
import { MachineAsks } from "../control/prompt";
import { Deeds } from "../control/build-actions";
import { FilamentChange } from "../control/filament";
import { Free } from "../control/hands-on";
import { Heat } from "./heat";
import { HOT_END } from "./heat-plot";
import { Laying } from "../control/laying";
import { Photo } from "./photo";
import { Power } from "./power";
import { FilmRuleLine } from "../watching/film-rule";
import { MachineUpkeep } from "../upkeep/machine-upkeep";
import { WatchRuleLine } from "../watching/watch-rule";
import { Where } from "./where";
import { useMay } from "../../api/may";
import { Needs } from "../../ui/needs";

export function MachinePage() {
  const name = useParams().name ?? "";
  const machine = useMachineNow(name);
  if (machine.error)
    return (
      <Page title={name}>
        <Sheet>
          <Failed error={machine.error} again={machine.again} />
        </Sheet>
      </Page>
    );
  if (!machine.data)
    return (
      <Page title={name}>
        <Sheet>
          <Loading rows={6} />
        </Sheet>
      </Page>
    );
  return <Known machine={machine.data} />;
}

/** Two columns where there is room; on a phone one, in the order of what hands need first. */
const COLUMN = "contents min-w-0 lg:flex lg:flex-col lg:gap-5";

function Known({ machine: m }: { machine: MachineDetail }) {
  const moment = m.hands?.moment ?? "free";
  const [back, setBack] = useState<KeptFrame | null>(null);
  const why = useMay()("operate", m);
  return (
    <Page
      title={
        <span className="flex items-baseline gap-4">
          {m.name} <StateMark state={m.state} large />
        </span>
      }
      beside={<Deeds machine={m} />}
    >
      {why && <p className="mt-0 mb-4 rounded-md bg-sunk px-4 py-2.5">You may look at {m.name}, not work at it. {why}</p>}
      {!m.reachable && (
        <p className="mt-0 mb-4 rounded-md bg-alarm-wash px-4 py-2.5 text-alarm">
          The tender of {m.name} is not connected; what you see is as last heard.
        </p>
      )}
      {m.reason && (
        <p className={`mt-0 mb-4 rounded-md px-4 py-2.5 ${m.power?.on === false ? "bg-sunk" : "bg-alarm-wash text-alarm"}`}>
          {m.state}: {m.reason}.
        </p>
      )}
      {m.hands?.suspect && (
        <p className="mt-0 mb-4 rounded-md bg-alarm-wash px-4 py-2.5 text-alarm">
          {m.name} leaves lines without an answer: it may be hanging, or its cable loose.
        </p>
      )}
      {m.hands?.nozzle_rests && (
        <p className="mt-0 mb-4 rounded-md bg-sunk px-4 py-2.5">
          The nozzle is let cool while the build waits; resuming heats it again.
        </p>
      )}
      <div className="grid gap-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,4fr)]">
        <div className={COLUMN}>
          <div className="order-1 min-w-0">
            <MachinePicture machine={m} back={back} lookBack={setBack} />
          </div>
          {m.build && (
            <div className="order-5 min-w-0">
              <Laying machine={m} back={back} />
            </div>
          )}
          {moment === "free" && (
            <div className="order-5 min-w-0">
              <Needs right="operate" at={m}>
<Free machine={m} />
</Needs>
            </div>
          )}
          <div className="order-9 min-w-0">
            <History name={m.name} />
          </div>
        </div>
        <div className={COLUMN}>
          <div className="order-0 min-w-0 empty:hidden">
            <Suspicions machine={m} />
          </div>
          <div className="order-2 flex min-w-0 flex-col gap-5">
            {(m.hands?.waits || m.hands?.question) && <Needs right="operate" at={m} quiet>
<MachineAsks machine={m} />
</Needs>}
            <ThisBuild machine={m} />
            {m.hands?.change && moment !== "free" && <Needs right="operate" at={m} quiet>
<FilamentChange machine={m} />
</Needs>}
            {moment !== "free" && m.build && !m.build.outcome && <Needs right="operate" at={m} quiet>
<Adjust machine={m} />
</Needs>}
          </div>
          <div className="order-6 flex min-w-0 flex-col gap-5">
            <Needs right="operate" at={m} quiet>
<Power machine={m} />
</Needs>
            <MachineHeat machine={m} back={back} />
            <Day machine={m} />
            <MachineUpkeep name={m.name} />
            <Needs right="operate" at={m} quiet>
<SetUp machine={m} />
</Needs>
          </div>
        </div>
      </div>
    </Page>
  );
}

function ThisBuild({ machine: m }: { machine: MachineDetail }) {
  const now = useNow();
  const b = m.build;
  if (!b)
    return (
      <Sheet>
        <Empty title="No build">
          {m.held ? `It ${m.held}.` : m.state === "idle" && m.intake === "open" ? "It takes the next job that fits, by itself." : MEANING[m.state]}
        </Empty>
      </Sheet>
    );
  const share = b.progress ?? 0;
  return (
    <Sheet>
      <SheetTitle beside={`build ${b.id} · copy ${b.copy_number} of job ${b.job}`}>{b.file}</SheetTitle>
      <div className="px-5 pb-4">
        <div className="mb-1 flex items-baseline justify-between">
          <span className="font-serif text-4xl font-semibold">{percent(share)}</span>
          <span className="text-faded">
            {b.outcome ? b.outcome : b.layers ? `layer ${b.layer} of ${b.layers}` : ""}
          </span>
        </div>
        {b.words && !b.outcome && <p className="mt-0 mb-2 text-sm text-faded">It shows: {b.words}</p>}
        <div
          role="progressbar"
          aria-valuenow={Math.round(share * 100)}
          aria-valuemin={0}
          aria-valuemax={100}
          aria-label="Progress"
          className="mb-3 h-2 overflow-hidden rounded-full bg-sunk"
        >
          <div className="h-full rounded-full" style={{ width: width(share), background: "var(--building)" }} />
        </div>
        {m.hands?.sent_share != null && <p className="mt-0 mb-2">The file is on its way to the machine: {percent(m.hands.sent_share)}.</p>}
        <dl className="m-0">
          {b.outcome ? (
            <Fact name="Ended">{[b.outcome, b.reason].filter(Boolean).join(": ")}</Fact>
          ) : (
            <Fact name="Expected end">
              {b.expected_end ? (
                <>
                  <strong>{when(b.expected_end, now)}</strong> · in {duration(b.remaining_s ?? 0)}
                </>
              ) : (
                "not known yet"
              )}
            </Fact>
          )}
          <Fact name="Elapsed">{duration(b.elapsed_s ?? 0)}</Fact>
          <Fact name="Commands acknowledged">
            {(b.acknowledged ?? 0).toLocaleString("en-GB")} of {(b.commands ?? 0).toLocaleString("en-GB")}
          </Fact>
          {!b.outcome && <Fact name="Pace against plan">× {(b.pace ?? 1).toFixed(2)}</Fact>}
        </dl>
      </div>
    </Sheet>
  );
}

function MachineHeat({ machine: m, back }: { machine: MachineDetail; back: KeptFrame | null }) {
  const { now: shopNow } = useLive();
  const from = back !== null ? m.build?.started_at : null;
  const [span, setSpan] = useState<Span>();
  useEffect(() => {
    // all of the build, as it was when somebody began to look back
    setSpan(from ? { begin: from, end: shopNow().toISOString() } : undefined);
  }, [from, shopNow]);
  const marks = useBuildMarks(m.build?.id, m.camera ?? "", true);
  const { nozzle, bed, further } = m.reading ?? {};
  const asked = (c: number | null | undefined) => (c ? ` of ${degrees(c)}` : ", off");
  const says = m.reading
    ? [
        `nozzle ${degrees(nozzle?.measured_c)}${asked(nozzle?.asked_c)}`,
        `bed ${degrees(bed?.measured_c)}${asked(bed?.asked_c)}`,
        ...Object.entries(further ?? {})
          .filter(([name, value]) => !HOT_END.test(name) || value.measured_c !== nozzle?.measured_c || value.asked_c !== nozzle?.asked_c)
          .map(([name, value]) => `${name} ${degrees(value.measured_c)}${value.asked_c == null ? "" : asked(value.asked_c)}`),
      ].join(" · ")
    : "no reading yet";
  return <Heat machine={m.name} says={says} span={span} at={span && back ? back.at : undefined} marks={marks} />;
}

function Day({ machine: m }: { machine: MachineDetail }) {
  const now = useNow();
  const ledger = useLedger(13, m.name);
  const axis = makeAxis(now, 10, 2, 6);
  return (
    <Sheet>
      <SheetTitle beside={`${m.state} since ${clock(m.since)}`}>Today</SheetTitle>
      <div className="px-5 pb-4">
        <div className="h-7">
          <AxisHead axis={axis} now={now} near={0.11} />
        </div>
        <div className="relative h-12 border-y border-rule">
          <AxisRules axis={axis} now={now} />
          <Timeline axis={axis} entries={ledger.data ?? []} machine={m} now={now} />
        </div>
      </div>
    </Sheet>
  );
}

const INTAKES = {
  open: "takes work by itself",
  manual: "a person starts each build",
  closed: "takes no work",
} as const;

const WATCH: Record<string, string> = {
  true: "it turns its heaters off itself",
  false: "its heaters stay on: it has no watch of its own",
  null: "not known yet",
};

function firmware(m: MachineDetail): string {
  if (m.hands?.runs_file) return "runs files itself";
  const c = m.hands?.contact;
  if (!c?.firmware) return "nothing yet";
  const cannot = Object.entries(c.capabilities ?? {}).filter(([, has]) => !has);
  return c.firmware + (cannot.length ? `; cannot ${cannot.map(([name]) => name.toLowerCase().replaceAll("_", " ")).join(", ")}` : "");
}

function SetUp({ machine: m }: { machine: MachineDetail }) {
  const [moving, setMoving] = useState(false);
  const change = useChange(
    (intake: keyof typeof INTAKES) =>
      value(api.PATCH("/api/machines/{name}", { params: { path: { name: m.name } }, body: { intake } })),
    "machine",
  );
  const [x, y, z] = m.model_detail.volume_mm ?? [0, 0, 0];
  return (
    <Sheet>
      <SheetTitle
        beside={
          <span className="flex gap-4">
            <button type="button" className="underline" onClick={() => setMoving(true)}>
              Place and pools
            </button>
            <Link to={`/machines/${m.name}/first-test`}>First test</Link>
            <Link to={`/machines/${m.name}/log`}>Line log</Link>
            <Link to={`/machines/${m.name}/level`}>Level of the bed</Link>
          </span>
        }
      >
        Set-up
      </SheetTitle>
      <Photo machine={m} />
      <dl className="m-0 px-5 pb-4">
        <Fact name="Intake">
          <select
            aria-label="Intake"
            className="min-h-8 rounded-md border border-rule bg-ground px-2 text-ink"
            value={m.intake}
            disabled={change.isPending}
            onChange={(e) => change.mutate(e.target.value as keyof typeof INTAKES)}
          >
            {Object.entries(INTAKES).map(([key, text]) => (
              <option key={key} value={key}>
                {key}: {text}
              </option>
            ))}
          </select>
        </Fact>
        {m.tools.map((t) => (
          <Fact key={t.number} name={m.tools.length > 1 ? `Tool ${t.number}` : "Loaded"}>
            {[t.colour, t.material].filter(Boolean).join(" ") || "nothing"}, {t.nozzle_mm} mm{t.hardened ? " hardened" : ""}
          </Fact>
        ))}
        <Fact name="Stands">{[m.site, m.place].filter(Boolean).join(" ") || "not said"}</Fact>
        <Fact name="Pools and tags">{[...(m.pools ?? []), ...(m.tags ?? [])].join(", ") || "none"}</Fact>
        <Fact name="Model">
          {m.model}, {x} × {y} × {z} mm
        </Fact>
        <Fact name="Link">
          <span className="break-all">{m.link}</span>
        </Fact>
        <Fact name="Says of itself">{firmware(m)}</Fact>
        {!m.hands?.runs_file && <Fact name="Lines sent again">{m.resends ?? 0}</Fact>}
        <Fact name="Films">
          <FilmRuleLine scope="machine" subject={m.name} />
        </Fact>
        <Fact name="The watch">
          <Watched machine={m.name} />
        </Fact>
        <Fact name="If it suspects something">
          <WatchRuleLine scope="machine" subject={m.name} />
        </Fact>
        <Fact name="If its tender dies">{WATCH[String(m.hands?.watchdog ?? null)]}</Fact>
      </dl>
      <div className="px-5 pb-3">
        <Refusal error={change.error} />
      </div>
      {moving && <Where machine={m} close={() => setMoving(false)} />}
    </Sheet>
  );
}

/** Whether its builds are watched, why not, and a way to turn that off and on. */
function Watched({ machine }: { machine: string }) {
  const standing = useWatchStanding().data?.machines.find((w) => w.machine === machine);
  const [reason, setReason] = useState<string | null>(null);
  const held = useWatchRule("machine", machine).data;
  const path = { params: { path: { scope: "machine" as const, subject: machine } } };
  const off = useChange(
    () => value(api.PUT("/api/watch-rules/{scope}/{subject}", { ...path, body: { ...held?.rule, on: false, reason: reason ?? "" } })).then(() => setReason(null)),
    "watch",
  );
  const on = useChange(() => value(api.PUT("/api/watch-rules/{scope}/{subject}", { ...path, body: { ...held?.rule, on: true, reason: "" } })), "watch");
  if (!standing) return <>…</>;
  const isOff = standing.why_not?.startsWith("the watch is off");
  const button = "text-sm text-faded underline";
  if (reason !== null)
    return (
      <form
        className="flex gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          off.mutate(undefined);
        }}
      >
        <input
          autoFocus
          aria-label="Why the watch is off"
          placeholder="why, if you wish"
          maxLength={200}
          className="min-h-8 min-w-0 rounded-md border border-rule bg-ground px-2 text-ink"
          value={reason}
          onChange={(e) => setReason(e.target.value)}
        />
        <button type="submit" className={button}>
          turn it off
        </button>
      </form>
    );
  return (
    <>
      {standing.watching ? (standing.unjudged ? `not judging now: ${standing.unjudged}` : standing.why_not || "on") : standing.why_not}{" "}
      {isOff ? (
        <button type="button" className={button} onClick={() => on.mutate(undefined)}>
          turn it on
        </button>
      ) : (
        <button type="button" className={button} onClick={() => setReason("")}>
          turn it off
        </button>
      )}
      <Refusal error={off.error ?? on.error} />
    </>
  );
}

function History({ name }: { name: string }) {
  const builds = useBuilds(name);
  const now = useNow(10_000);
  return (
    <Sheet>
      <SheetTitle beside="the last twelve">Builds</SheetTitle>
      {builds.error ? (
        <Failed error={builds.error} again={() => builds.refetch()} />
      ) : builds.isPending ? (
        <Loading rows={4} height="h-10" />
      ) : builds.data.length === 0 ? (
        <Empty title="No builds yet">Queue copies of a file in the Library.</Empty>
      ) : (
        <div className="overflow-x-auto px-5 pb-4">
          <table className="w-full border-collapse text-sm">
            <thead className="text-left text-faded">
              <tr>
                <th className="py-1.5 pr-3 text-right font-medium">Build</th>
                <th className="py-1.5 pr-3 font-medium">File</th>
                <th className="py-1.5 pr-3 font-medium">Started</th>
                <th className="py-1.5 pr-3 text-right font-medium">Took</th>
                <th className="py-1.5 font-medium">Came to</th>
              </tr>
            </thead>
            <tbody>
              {builds.data.map((b) => (
                <tr key={b.id} className="border-t border-rule align-baseline">
                  <td className="py-1.5 pr-3 text-right">
                    <Link to={`/builds/${b.id}`}>{b.id}</Link>
                  </td>
                  <td className="py-1.5 pr-3">{b.file}</td>
                  <td className="py-1.5 pr-3 whitespace-nowrap">{b.started_at ? when(b.started_at, now) : "–"}</td>
                  <td className="py-1.5 pr-3 text-right whitespace-nowrap">
                    {b.started_at && b.ended_at
                      ? duration((Date.parse(b.ended_at) - Date.parse(b.started_at)) / 1000)
                      : "–"}
                  </td>
                  <td className={`py-1.5 ${b.verdict === "scrap" ? "text-alarm" : ""}`}>
                    {b.verdict ? [b.verdict, b.scrap_reason].filter(Boolean).join(": ") : (b.outcome ?? b.state)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Sheet>
  );
}
