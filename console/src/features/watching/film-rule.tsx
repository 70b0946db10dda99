import { type ReactNode, useState } from "react";

import { api, type FilmRule, type FilmSettings, type PoseRun, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Choice } from "../../ui/choice";
import { Dialog, inputLook } from "../../ui/dialog";
import { duration } from "../../ui/format";
import { Refusal } from "../../ui/page";
import { type FilmScope, filmWords, HEAD_AWAY, useFilmRule, useHeadAway } from "./film-queries";

/** A file whose cost with the head out of the picture can be told. */
export interface RuleFile {
  sha256: string;
  model: string;
}

const OF: Record<FilmScope, string> = { job: "this job", order: "this order", file: "this file", machine: "this machine", shop: "every build" };

/** How films of something are made, in a line, with a way to change it. */
export function FilmRuleLine({ scope, subject, file }: { scope: FilmScope; subject: string; file?: RuleFile }) {
  const rule = useFilmRule(scope, subject);
  const [open, setOpen] = useState(false);
  if (!rule.data) return null;
  return (
    <span className="inline-flex flex-wrap items-baseline gap-x-2">
      <span>{filmWords(rule.data.settings)}</span>
      <button type="button" className="text-sm text-faded underline" onClick={() => setOpen(true)}>
        {rule.data.own || scope === "shop" ? "change" : `as ${from(rule.data)}; change`}
      </button>
      {open && <RuleDialog scope={scope} subject={subject} rule={rule.data} file={file} close={() => setOpen(false)} />}
    </span>
  );
}

const from = (rule: FilmRule) => (rule.scope === "shop" ? "everywhere" : `for the ${rule.scope}`);

export function RuleDialog({ scope, subject, rule, file, close }: { scope: FilmScope; subject: string; rule: FilmRule; file?: RuleFile; close: () => void }) {
  const [s, setS] = useState<FilmSettings>(rule.settings);
  const set = (change: Partial<FilmSettings>) => setS({ ...s, ...change });
  const path = { path: { scope, subject } };
  const save = useChange(() => value(api.PUT("/api/film-rules/{scope}/{subject}", { params: path, body: s })).then(close), "film-rules");
  const forget = useChange(() => value(api.DELETE("/api/film-rules/{scope}/{subject}", { params: path })).then(close), "film-rules");
  const number = (field: keyof FilmSettings, least: number, most: number, step: number | "any" = 1): ReactNode => (
    <input
      className={inputLook}
      type="number"
      required
      min={least}
      max={most}
      step={step}
      value={Number.isNaN(s[field]) ? "" : String(s[field])}
      onChange={(e) => set({ [field]: e.target.valueAsNumber })}
    />
  );
  return (
    <Dialog open close={close} wide title={`Films of ${OF[scope]}`} text="It holds for builds that begin from now on.">
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(undefined);
        }}
      >
        <label className="flex items-center gap-2">
          <input type="checkbox" checked={s.make} onChange={(e) => set({ make: e.target.checked })} /> A film is made of each build
        </label>
        {s.make && (
          <>
            <Row name="Frames">
              <Choice
                label="Frames"
                options={[
                  { key: "layer", name: "by layer" },
                  { key: "time", name: "by time" },
                ]}
                value={s.by ?? "layer"}
                choose={(by) => set({ by: by as "layer" | "time" })}
              />
              {s.by === "time" ? <Small before="one every" after="s">{number("every_s", 1, 3600, "any")}</Small> : <Small after="of each layer">{number("per_layer", 1, 20)}</Small>}
            </Row>
            <Row name="Length">
              <Choice
                label="Length"
                options={[
                  { key: "free", name: "as the frames give" },
                  { key: "fixed", name: "fixed" },
                ]}
                value={s.length_s ? "fixed" : "free"}
                choose={(to) => set({ length_s: to === "fixed" ? 15 : 0 })}
              />
              {s.length_s !== 0 && <Small after="s long">{number("length_s", 1, 600, "any")}</Small>}
              <Small after="frames a second">{number("fps", 1, 60)}</Small>
            </Row>
            <Row name="Held">
              <Small before="first frame" after="s">{number("hold_first_s", 0, 10, "any")}</Small>
              <Small before="last frame" after="s">{number("hold_last_s", 0, 10, "any")}</Small>
            </Row>
            <Row name="Layers">
              <Small before="from">{number("first_layer", 1, 10_000_000)}</Small>
              <Small before="to" after="0 is the last">{number("last_layer", 0, 10_000_000)}</Small>
            </Row>
            <Row name="Picture">
              <Small before="at most" after="px wide">{number("width_px", 160, 3840)}</Small>
              <Choice
                label="Form"
                options={[
                  { key: "webm", name: "WebM (VP9)" },
                  { key: "mp4", name: "MP4 (H.264)" },
                ]}
                value={s.form ?? "webm"}
                choose={(form) => set({ form: form as "webm" | "mp4" })}
              />
              <label className="flex items-center gap-2 text-sm">
                <input type="checkbox" checked={s.stamp} onChange={(e) => set({ stamp: e.target.checked })} /> time and layer in a corner
              </label>
            </Row>
            {s.by !== "time" && (
              <div className="rounded-md bg-sunk px-4 py-3">
                <label className="flex items-center gap-2">
                  <input type="checkbox" checked={Boolean(s.head_away)} onChange={(e) => set({ head_away: e.target.checked ? HEAD_AWAY : null })} />
                  Take the head out of the picture at each layer
                </label>
                {s.head_away && (
                  <>
                    <div className="mt-3 flex flex-wrap gap-4">
                      <Small before="not at layers shorter than" after="s">
                        <input
                          className={inputLook}
                          type="number"
                          min={0}
                          max={3600}
                          step="any"
                          value={s.head_away.least_layer_s}
                          onChange={(e) => set({ head_away: { ...HEAD_AWAY, ...s.head_away, least_layer_s: e.target.valueAsNumber } })}
                        />
                      </Small>
                      <Small before="it stands still for" after="s first">
                        <input
                          className={inputLook}
                          type="number"
                          min={0}
                          max={10}
                          step="any"
                          value={s.head_away.settle_s}
                          onChange={(e) => set({ head_away: { ...HEAD_AWAY, ...s.head_away, settle_s: e.target.valueAsNumber } })}
                        />
                      </Small>
                    </div>
                    <AwayCost settings={s} file={file} />
                  </>
                )}
              </div>
            )}
          </>
        )}
        <Refusal error={save.error ?? forget.error} />
        <div className="flex flex-wrap justify-end gap-2">
          {rule.own && (
            <Button kind="quiet" className="mr-auto" asked={forget.isPending} onClick={() => forget.mutate(undefined)}>
              {scope === "shop" ? "As it was at first" : "As for everything else"}
            </Button>
          )}
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={save.isPending}>
            Set
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

/** How often the head goes aside in a file, what that adds, and what it risks. */
export function AwayWords({ run }: { run: PoseRun }) {
  return (
    <>
      <strong className="text-ink">
        {run.poses.length} times, about {duration(run.adds_s)} more
      </strong>
      {run.left_out > 0 && `; ${run.left_out} layers are too short`}. {run.risk}
    </>
  );
}

/** What taking the head away costs in a file, and what it risks; in words where no file is known. */
function AwayCost({ settings: s, file }: { settings: FilmSettings; file?: RuleFile }) {
  const run = useHeadAway(file?.sha256, file?.model ?? "", s.head_away);
  return (
    <p className="mt-3 mb-0 text-sm text-faded" aria-live="polite">
      {run.data ? (
        <AwayWords run={run.data} />
      ) : (
        "Each time takes a few seconds, and the hot nozzle may ooze: expect marks where it comes back. What it costs is shown on each file's page. It is never done while a build is paused."
      )}
    </p>
  );
}

function Row({ name, children }: { name: string; children: ReactNode }) {
  return (
    <div className="grid grid-cols-[4.5rem_1fr] items-center gap-x-4">
      <span className="text-sm text-faded">{name}</span>
      <div className="flex flex-wrap items-center gap-x-5 gap-y-2">{children}</div>
    </div>
  );
}

function Small({ before, after, children }: { before?: string; after?: string; children: ReactNode }) {
  return (
    <label className="flex items-center gap-2 text-sm">
      {before}
      <span className="inline-block w-20 [&_input]:min-h-8 [&_input]:px-2 [&_input]:text-right">{children}</span>
      {after}
    </label>
  );
}
