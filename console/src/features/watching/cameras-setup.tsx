import { useState } from "react";
import { Link } from "react-router";

import { api, type Camera, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { clock, percent } from "../../ui/format";
import { Empty, Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { BedCorners } from "./bed-corners";
import { CameraDialog } from "./camera-dialog";
import { useCameras, useCameraWork, useFrameCost, useWatching } from "./queries";

/** Every camera with how it stands: add, change, remove; and what they may cost. */
export function CamerasSetup() {
  const cameras = useCameras();
  const [adding, setAdding] = useState(false);
  const [changing, setChanging] = useState<Camera | null>(null);
  const [removing, setRemoving] = useState<Camera | null>(null);
  const [marking, setMarking] = useState<Camera | null>(null);
  const rows = cameras.data ?? [];
  return (
    <Sheet className="min-w-0 scroll-mt-20">
      <span id="cameras" />
      <SheetTitle
        beside={
          <button type="button" className="text-ink underline" onClick={() => setAdding(true)}>
            Add a camera
          </button>
        }
      >
        Cameras
      </SheetTitle>
      {cameras.error ? (
        <Failed error={cameras.error} again={() => cameras.refetch()} />
      ) : cameras.isPending ? (
        <Loading rows={4} height="h-11" />
      ) : rows.length === 0 ? (
        <Empty title="No cameras yet">A snapshot address, a stream, or a camera that is plugged in: each can be tried before it is added.</Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {rows.map((c) => (
            <li key={c.name} className="grid grid-cols-[1fr_auto] items-center gap-x-4 px-5 py-1.5">
              <span className="min-w-0">
                <Link to={`/cameras/${encodeURIComponent(c.name)}`} className="text-ink">
                  {c.name}
                </Link>{" "}
                <span className="text-sm text-faded">
                  {c.machine ? (c.machine === c.name ? "" : `at ${c.machine}`) : [c.site, c.place].filter(Boolean).join(", ")}
                  {c.machine && !c.first ? ", further" : ""}
                </span>
                <span className={`block text-sm ${c.trouble ? "text-alarm" : "truncate text-faded"}`} title={c.address}>
                  {c.trouble ? `since ${clock(c.trouble.since)}: ${c.trouble.text}` : c.address}
                </span>
              </span>
              <span className="flex">
                {c.machine && (
                  <Button kind="quiet" onClick={() => setMarking(c)}>
                    Bed
                  </Button>
                )}
                <Button kind="quiet" onClick={() => setChanging(c)}>
                  Change
                </Button>
                <Button kind="quiet" onClick={() => setRemoving(c)}>
                  Remove
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {rows.length > 0 && (
        <>
          <Budget />
          <Keeping />
        </>
      )}
      {adding && <CameraDialog close={() => setAdding(false)} />}
      {changing && <CameraDialog camera={changing} close={() => setChanging(null)} />}
      {marking && <BedCorners camera={marking} close={() => setMarking(null)} />}
      {removing && <Remove camera={removing} close={() => setRemoving(null)} />}
    </Sheet>
  );
}

function Remove({ camera, close }: { camera: Camera; close: () => void }) {
  const remove = useChange(
    () => value(api.DELETE("/api/cameras/{name}", { params: { path: { name: camera.name } } })).then(close),
    "cameras",
    "machine",
  );
  return (
    <FormDialog
      title={`Remove ${camera.name}?`}
      text="Its address and password are forgotten."
      close={close}
      send={() => remove.mutate(undefined)}
      asked={remove.isPending}
      error={remove.error}
      action="Remove it"
      kind="danger"
    >
      <></>
    </FormDialog>
  );
}

/** How often frames are kept and what they may take of the disk; what that comes to is seen before it is set. */
function Keeping() {
  const watching = useWatching();
  const [draft, setDraft] = useState<{ every?: string; disk?: string }>({});
  const every = draft.every ?? (watching.data ? String(watching.data.keep_every_s) : "");
  const disk = draft.disk ?? (watching.data ? String(watching.data.frames_gb) : "");
  const cost = useFrameCost(Number(every));
  const change = useChange(
    () => value(api.PATCH("/api/watching", { body: { keep_every_s: Number(every), frames_gb: Number(disk) } })).then(() => setDraft({})),
    "watching",
    "frame-cost",
  );
  const touched = draft.every !== undefined || draft.disk !== undefined;
  return (
    <form
      className="flex flex-col gap-3 border-t border-rule px-5 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(undefined);
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        <Field label="A frame is kept every, s">
          <input className={`${inputLook} w-36`} type="number" min={5} max={3600} value={every} onChange={(e) => setDraft({ ...draft, every: e.target.value })} />
        </Field>
        <Field label="Frames may take, GB">
          <input className={`${inputLook} w-36`} type="number" min={0.1} step="any" value={disk} onChange={(e) => setDraft({ ...draft, disk: e.target.value })} />
        </Field>
        {touched && (
          <Button kind="strong" type="submit" asked={change.isPending}>
            Set
          </Button>
        )}
      </div>
      {cost.data && (
        <p className="m-0 text-sm text-faded">
          That comes to <strong className={cost.data.lasting_gb > Number(disk) ? "text-alarm" : "text-ink"}>{cost.data.lasting_gb.toFixed(1)} GB</strong> once a month has
          passed, and {cost.data.for_ever_gb_a_year.toFixed(1)} GB a year of first and last frames.
          {cost.data.lasting_gb > Number(disk) && " That is more than they may take: frames will be thinned sooner."} Now {cost.data.frames.toLocaleString("en-GB")} frames
          take {cost.data.now_gb.toFixed(2)} GB.
        </p>
      )}
      <Refusal error={change.error} />
    </form>
  );
}

/** How much of a tender's processor cameras take, and may take. */
function Budget() {
  const work = useCameraWork();
  const watching = useWatching();
  const [draft, setDraft] = useState<string | null>(null);
  const change = useChange(
    (camera_budget: number) => value(api.PATCH("/api/watching", { body: { camera_budget } })).then(() => setDraft(null)),
    "watching",
    "camera-work",
  );
  const set = watching.data ? String(Math.round((watching.data.camera_budget ?? 0) * 100)) : "";
  return (
    <form
      className="flex flex-wrap items-end justify-between gap-4 border-t border-rule px-5 py-3"
      onSubmit={(e) => {
        e.preventDefault();
        change.mutate(Number(draft ?? set) / 100);
      }}
    >
      <p className="m-0 text-sm text-faded">
        {(work.data ?? []).map((w) => (
          <span key={w.tender} className="block">
            {w.tender}: {percent(w.used)} of a processor core now
            {w.factor < 1 ? <strong className="text-ink">; fewer frames are taken ({percent(w.factor)} of what is wished)</strong> : ""}
          </span>
        ))}
        {work.data?.length === 0 && "No tender with cameras is connected."}
      </p>
      <div className="flex items-end gap-2">
        <Field label="May take, % of a core">
          <input
            className={`${inputLook} w-28`}
            type="number"
            min={2}
            max={6400}
            value={draft ?? set}
            onChange={(e) => setDraft(e.target.value)}
          />
        </Field>
        {draft !== null && draft !== set && (
          <Button kind="strong" type="submit" asked={change.isPending}>
            Set
          </Button>
        )}
      </div>
      <Refusal error={change.error} />
    </form>
  );
}
