import { useState } from "react";
import { Link, useParams } from "react-router";

import type { Build, KeptFrame, MachineDetail } from "../../api/client";
import { useLive, useNow } from "../../api/live";
import { duration, when } from "../../ui/format";
import { Field, inputLook } from "../../ui/dialog";
import { Empty, Fact, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { Zoom } from "../../ui/zoom";
import { Viewer } from "../../viewer/viewer";
import { useReading } from "../gcode/queries";
import { BuildCost } from "../ledger/build-cost";
import { BuildLayers } from "../ledger/build-layers";
import { BuildLife } from "../ledger/build-life";
import { BuildNote } from "../ledger/build-note";
import { useBuildLife } from "../ledger/queries";
import { Heat } from "../machines/heat";
import { useMachine } from "../machines/queries";
import { useEnergy, wh } from "../machines/power-queries";
import { BuildWatch } from "../watching/build-watch";
import { CameraChoice } from "../watching/camera-choice";
import { BuildFilm } from "../watching/film-strip";
import { useBuildMarks } from "../watching/marks";
import { FramePicture, LookBack } from "../watching/look-back";
import { useBuildFrames, useCameras } from "../watching/queries";
import { useBuild, useBuilds } from "./queries";

/** One build as it was: picture, layers and heat on one slider. */
export function BuildPage() {
  const number = Number(useParams().number);
  const build = useBuild(Number.isInteger(number) ? number : 0);
  const machine = useMachine(build.data?.machine ?? "");
  const failed = build.error ?? (build.data && machine.error);
  return (
    <Page
      title={`Build ${number}`}
      beside={build.data && <Beside build={build.data} />}
    >
      {failed ? (
        <Sheet>
          <Failed error={failed} again={() => build.refetch()} />
        </Sheet>
      ) : build.data && machine.data ? (
        <Known build={build.data} machine={machine.data} />
      ) : (
        <Sheet>
          <Loading rows={6} />
        </Sheet>
      )}
    </Page>
  );
}

/** The builds of the same machine before and after it. */
function Beside({ build: b }: { build: Build }) {
  const life = useBuildLife(b.id).data;
  return (
    <span className="flex flex-wrap items-baseline gap-x-4 text-sm">
      <span className="text-faded">
        On <Link to={`/machines/${encodeURIComponent(b.machine)}`}>{b.machine}</Link>
      </span>
      {life?.before && <Link to={`/builds/${life.before}`}>← before: {life.before}</Link>}
      {life?.after && <Link to={`/builds/${life.after}`}>after: {life.after} →</Link>}
      <Link to={`/records/builds?file=${encodeURIComponent(b.file)}`}>All of this file</Link>
    </span>
  );
}

function Known({ build: b, machine: m }: { build: Build; machine: MachineDetail }) {
  const now = useNow(5000);
  const cameras = (useCameras().data ?? []).filter((c) => c.machine === m.name).sort((x, y) => Number(y.first) - Number(x.first));
  const [picked, setPicked] = useState("");
  const camera = cameras.find((c) => c.name === picked) ?? cameras[0];
  const runs = !b.ended_at;
  const frames = useBuildFrames(b.id, camera?.name ?? "", runs);
  const list = frames.data ?? [];
  const [chosen, setChosen] = useState<KeptFrame | null>(null);
  const shown = list.find((f) => f.number === chosen?.number) ?? list.at(-1) ?? null;
  const fed = b.fed_sha256 || b.sha256;
  const reading = useReading(fed, m.model);
  const { now: shopNow } = useLive();
  const [end] = useState(() => shopNow().toISOString());
  const marks = useBuildMarks(b.id, camera?.name ?? "", runs);
  const alike = (useBuilds(m.name).data ?? []).filter((o) => o.id !== b.id && o.started_at && o.ended_at);
  const [over, setOver] = useState("");
  const energy = useEnergy({ by: "build", build: b.id }).data ?? [];
  const beside = alike.find((o) => String(o.id) === over);
  const showLayer = (layer: number) => setChosen(list.find((f) => (f.layer ?? 0) >= layer) ?? list.at(-1) ?? null);
  const [wide = 220, deep = 220] = m.model_detail.volume_mm ?? [];
  return (
    <div className="grid gap-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,4fr)]">
      <div className="flex min-w-0 flex-col gap-5">
        <Sheet className="overflow-hidden">
          {frames.isPending && camera ? (
            <div className="aspect-[4/3] bg-sunk" />
          ) : shown ? (
            <>
              <Zoom label={`Picture of build ${b.id}`} className="aspect-[4/3] w-full">
                <FramePicture frame={shown} frames={list} />
              </Zoom>
              <div className="flex min-h-11 items-center px-4 py-1.5 text-sm">
                <CameraChoice cameras={cameras.map((c) => c.name)} chosen={camera!.name} choose={setPicked} />
              </div>
              <LookBack frames={list} shown={shown} show={setChosen} live={false} />
            </>
          ) : (
            <Empty title="No frames of this build are kept">{camera ? `${camera.name} took none, or they have been removed.` : `No camera looks at ${m.name}.`}</Empty>
          )}
        </Sheet>
        <Sheet className="overflow-hidden">
          <SheetTitle
            beside={
              <Link to={`/library/files/${b.file_id}?revision=${b.revision}`} className="text-faded">
                {b.file}, revision {b.revision}
              </Link>
            }
          >
            Layer by layer
          </SheetTitle>
          {reading.data ? (
            <Viewer
              key={chosen ? "back" : "whole"}
              sha256={fed}
              model={m.model}
              layers={reading.data.layers}
              bed={[wide, deep]}
              following={chosen && shown ? { layer: Math.max(1, shown.layer ?? 1), acknowledged: shown.command ?? 0 } : undefined}
              height="h-[24rem]"
            />
          ) : (
            <Loading rows={5} />
          )}
        </Sheet>
        {b.started_at ? (
          <Heat
            machine={m.name}
            span={{ begin: b.started_at, end: b.ended_at ?? end }}
            over={beside?.started_at && beside.ended_at ? { begin: beside.started_at, end: beside.ended_at, name: `build ${beside.id}` } : undefined}
            at={chosen && shown ? shown.at : undefined}
            marks={marks}
            says={beside ? `thin lines: build ${beside.id}` : undefined}
          />
        ) : null}
        <BuildFilm build={b.id} ended={!runs} frames={list.length > 1} />
        {alike.length > 0 && (
          <Sheet className="px-5 py-3">
            <Field label="Another build over it">
              <select className={inputLook} value={over} onChange={(e) => setOver(e.target.value)}>
                <option value="">none</option>
                {alike.map((o) => (
                  <option key={o.id} value={o.id}>
                    build {o.id}, {o.file}, {o.started_at ? when(o.started_at, now) : ""}
                  </option>
                ))}
              </select>
            </Field>
          </Sheet>
        )}
      </div>
      <div className="flex min-w-0 flex-col gap-5">
        <Sheet>
          <SheetTitle beside={`copy ${b.copy_number} of job ${b.job}`}>{b.file}</SheetTitle>
          <dl className="m-0 px-5 pb-4">
            <Fact name="Machine">
              <Link to={`/machines/${encodeURIComponent(m.name)}`}>{m.name}</Link>
            </Fact>
            <Fact name="Started">{b.started_at ? when(b.started_at, now) : "not yet"}</Fact>
            <Fact name="Ended">{b.ended_at ? when(b.ended_at, now) : "it runs"}</Fact>
            {b.took_s != null && (
              <Fact name="Took">
                {duration(b.took_s)}, planned {duration(b.planned_s)}
              </Fact>
            )}
            <Fact name="Came to">{[b.outcome ?? b.state, b.reason].filter(Boolean).join(": ")}</Fact>
            {b.verdict && (
              <Fact name="Verdict">
                {[b.verdict, b.scrap_reason].filter(Boolean).join(": ")}
                {b.judged_by && <span className="text-faded">, by {b.judged_by}</span>}
              </Fact>
            )}
            {(b.uses ?? []).map((u) => (
              <Fact key={u.tool} name={(b.uses ?? []).length > 1 ? `Tool ${u.tool}` : "Made with"}>
                {[`${u.colour} ${u.material}`.trim(), u.spool != null && `spool ${u.spool}`, `${u.nozzle_mm} mm nozzle`, b.outcome && `${u.grams.toFixed(1)} g`].filter(Boolean).join(", ")}
              </Fact>
            ))}
            {energy.length > 0 && <Fact name="Energy">{wh(energy.reduce((sum, row) => sum + row.wh, 0))}</Fact>}
            <Fact name="Commands acknowledged">
              {(b.acknowledged ?? 0).toLocaleString("en-GB")} of {(b.commands ?? 0).toLocaleString("en-GB")}
            </Fact>
            {b.has_log && (
              <Fact name="Log">
                <a href={`/api/builds/${b.id}/log`} download>
                  All that was said
                </a>
              </Fact>
            )}
          </dl>
          {b.photo && <img src={`/api/builds/${b.id}/photo`} alt="What somebody photographed of it" className="block max-h-80 w-full rounded-b-lg object-cover" loading="lazy" />}
        </Sheet>
        <BuildLife build={b} now={now} />
        <BuildLayers build={b} show={list.length > 1 ? showLayer : undefined} />
        {b.started_at && <BuildCost build={b.id} />}
        <BuildNote build={b} />
        <BuildWatch build={b.id} shown={shown} objects={(reading.data?.objects ?? []).map((o) => o.name)} />
      </div>
    </div>
  );
}
