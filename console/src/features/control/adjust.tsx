import { useState } from "react";

import type { MachineDetail } from "../../api/client";
import { useChanges } from "./queries";
import { degrees, when } from "../../ui/format";
import { useNow } from "../../api/live";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Setting } from "../../ui/setting";
import { type Action, useAct } from "./act";

type Key = "nozzle_c" | "bed_c" | "chamber_c" | "speed_pct" | "flow_pct" | "fan_pct" | "z_offset_mm";

/** What may be set while a build runs; each shows *asked* until the machine has it. */
export function Adjust({ machine: m }: { machine: MachineDetail }) {
  const run = useAct(m.name);
  const [asked, setAsked] = useState<Partial<Record<Key, number>>>({});
  const { nozzle, bed, chamber } = m.reading ?? {};
  const model = m.model_detail;
  const s = m.hands?.settings;
  const offset = model.z_offset_mm ?? 1;
  const apply = (key: Key) => (value: number) => {
    setAsked((a) => ({ ...a, [key]: value }));
    run.mutate({ kind: "adjust", [key]: value } as Action, {
      onSettled: () =>
        setAsked((a) => {
          const rest = { ...a };
          if (rest[key] === value) delete rest[key];
          return rest;
        }),
    });
  };
  const of = (key: Key) => asked[key] ?? null;
  const measured = (c: number | null | undefined) => (c == null ? undefined : `now ${degrees(c)}`);
  return (
    <Sheet>
      <SheetTitle beside={m.hands?.moment === "paused" ? "for when it goes on" : "takes effect at once"}>Adjust</SheetTitle>
      <div className="px-5 pb-3">
        <Setting label="Nozzle" unit="°C" note={measured(nozzle?.measured_c)} set={nozzle?.asked_c ?? null} least={0} most={model.nozzle_ceiling_c ?? 275} step={1} asked={of("nozzle_c")} apply={apply("nozzle_c")} />
        <Setting label="Bed" unit="°C" note={measured(bed?.measured_c)} set={bed?.asked_c ?? null} least={0} most={model.bed_ceiling_c ?? 110} step={1} asked={of("bed_c")} apply={apply("bed_c")} />
        {(model.chamber_ceiling_c ?? 0) > 0 && (
          <Setting label="Chamber" unit="°C" note={measured(chamber?.measured_c)} set={chamber?.asked_c ?? 0} least={0} most={model.chamber_ceiling_c!} step={1} asked={of("chamber_c")} apply={apply("chamber_c")} />
        )}
        <Setting label="Speed" unit="%" set={s?.speed_pct ?? 100} least={10} most={300} step={5} slide asked={of("speed_pct")} apply={apply("speed_pct")} />
        <Setting label="Flow" unit="%" set={s?.flow_pct ?? 100} least={50} most={150} step={1} asked={of("flow_pct")} apply={apply("flow_pct")} />
        <Setting label="Fan" unit="%" note={s?.fan_pct == null ? "as the file says" : "until the file sets it"} set={s?.fan_pct ?? null} least={0} most={100} step={5} slide asked={of("fan_pct")} apply={apply("fan_pct")} />
        <Setting label="Z offset" unit="mm" digits={3} set={s?.z_offset_mm ?? 0} least={-offset} most={offset} step={0.01} asked={of("z_offset_mm")} apply={apply("z_offset_mm")} />
        <div className="pt-2">
          <Refusal error={run.error} />
        </div>
        {m.build && <Changes build={m.build.id} />}
      </div>
    </Sheet>
  );
}

/** What hands changed of a build so far. */
export function Changes({ build }: { build: number }) {
  const changes = useChanges(build);
  const now = useNow(10_000);
  if (!changes.data?.length) return null;
  return (
    <details className="pt-1 text-sm" open={changes.data.length <= 3}>
      <summary className="cursor-pointer py-1 text-faded">
        {changes.data.length === 1 ? "One change" : `${changes.data.length} changes`} by hand in this build
      </summary>
      <ol className="m-0 list-none p-0">
        {[...changes.data].reverse().map((c, n) => (
          <li key={n} className="flex gap-3 py-1">
            <span className="shrink-0 text-faded">{when(c.at, now)}</span>
            <span className="min-w-0 flex-1">{c.text}</span>
            <span className="shrink-0 text-faded">{c.by}</span>
          </li>
        ))}
      </ol>
    </details>
  );
}
