import { useState } from "react";

import { api, type FailureMode, type KeptFrame, type Suspicion, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { clock, percent } from "../../ui/format";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { FramePicture } from "./look-back";
import { followed, kindName, SuspicionPicture } from "./suspicion-card";
import { KINDS, useBuildSuspicions } from "./watch-queries";

/** What the watch suspected of a build, what people answered, and a way to say that it missed something. */
export function BuildWatch({ build, shown, objects }: { build: number; shown: KeptFrame | null; objects: string[] }) {
  const found = useBuildSuspicions(build);
  const [missing, setMissing] = useState(false);
  const rows = found.data ?? [];
  return (
    <Sheet>
      <SheetTitle
        beside={
          shown && (
            <button type="button" className="underline" onClick={() => setMissing(true)}>
              The watch missed something
            </button>
          )
        }
      >
        The watch
      </SheetTitle>
      {rows.length === 0 ? (
        <p className="m-0 px-5 pb-4 text-faded">Nothing was suspected of this build.</p>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {rows.map((s) => (
            <Line key={s.number} suspicion={s} />
          ))}
        </ul>
      )}
      {missing && shown && <MissedDialog build={build} frame={shown} objects={objects} close={() => setMissing(false)} />}
    </Sheet>
  );
}

function Line({ suspicion: s }: { suspicion: Suspicion }) {
  const answer = useChange(
    (right: boolean) => value(api.POST("/api/suspicions/{number}/answer", { params: { path: { number: s.number } }, body: { right } })),
    "suspicions",
  );
  const said = s.right == null ? "" : s.missed ? `missed, says ${s.answered_by}` : `${s.right ? "right" : "a false alarm"}, says ${s.answered_by}`;
  return (
    <li className="grid grid-cols-[8rem_1fr] gap-4 px-5 py-3">
      <SuspicionPicture suspicion={s} />
      <div className="min-w-0">
        <p className="m-0">
          <strong>{kindName(s)}</strong> {s.missed ? "" : percent(s.probability)} <span className="text-faded">{clock(s.at)}</span>
        </p>
        <p className="m-0 text-sm text-faded">
          {s.sentence} {followed(s)}
        </p>
        {said ? (
          <p className="m-0 mt-1 text-sm">{said}</p>
        ) : (
          <div className="mt-1.5 flex gap-2">
            <Button asked={answer.isPending} onClick={() => answer.mutate(true)}>
              It was so
            </Button>
            <Button kind="quiet" asked={answer.isPending} onClick={() => answer.mutate(false)}>
              False alarm
            </Button>
          </div>
        )}
        <Refusal error={answer.error} />
      </div>
    </li>
  );
}

function MissedDialog({ build, frame, objects, close }: { build: number; frame: KeptFrame; objects: string[]; close: () => void }) {
  const [mode, setMode] = useState<FailureMode>("loose");
  const [object, setObject] = useState("");
  const ofObject = KINDS.find((k) => k.mode === mode)?.ofObject ?? false;
  const send = useChange(
    () =>
      value(
        api.POST("/api/builds/{number}/missed", {
          params: { path: { number: build } },
          body: { mode, object: ofObject ? object : "", frame: frame.number },
        }),
      ).then(close),
    "suspicions",
  );
  return (
    <FormDialog
      title="The watch missed something"
      text="It and the frames of this build are kept as labelled: the watch is measured and tuned on them."
      close={close}
      send={() => send.mutate(undefined)}
      asked={send.isPending}
      error={send.error}
      action="It failed here"
    >
      <div className="relative aspect-[4/3] overflow-hidden rounded-md bg-sunk">
        <FramePicture frame={frame} frames={[frame]} />
      </div>
      <Field label="What went wrong" hint={KINDS.find((k) => k.mode === mode)?.says}>
        <select className={inputLook} value={mode} onChange={(e) => setMode(e.target.value as FailureMode)}>
          {KINDS.map((k) => (
            <option key={k.mode} value={k.mode}>
              {k.name}
            </option>
          ))}
        </select>
      </Field>
      {ofObject && objects.length > 0 && (
        <Field label="Which object">
          <select className={inputLook} value={object} onChange={(e) => setObject(e.target.value)}>
            <option value="">the whole build, or not sure</option>
            {objects.map((name) => (
              <option key={name}>{name}</option>
            ))}
          </select>
        </Field>
      )}
    </FormDialog>
  );
}
