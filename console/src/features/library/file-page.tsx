import { Download, Pencil } from "lucide-react";
import { useMemo, useState } from "react";
import { Link, useParams } from "react-router";

import { api, type LibraryFile, type PoseRun, type Revision, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useFile, useRevisions } from "./queries";
import { useModels } from "../machines/queries";
import { useAddress } from "../../ui/address";
import { Button } from "../../ui/button";
import { duration, size, when } from "../../ui/format";
import { useGrams } from "../machines/queries";
import { Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Viewer } from "../../viewer/viewer";
import { AboutDialog } from "./about-dialog";
import { EditDialog, type EditStart } from "../gcode/edit-dialog";
import { Figures } from "../gcode/figures";
import { HistorySheet } from "./history";
import { Preflight } from "../gcode/preflight";
import { AwayWords, FilmRuleLine } from "../watching/film-rule";
import { HEAD_AWAY, useFilmRule, useHeadAway } from "../watching/film-queries";
import { FilmStrip } from "../watching/film-strip";
import { QueueDialog } from "./queue-dialog";

export function FilePage() {
  const which = useParams().which ?? "";
  const [get, change] = useAddress();
  const model = get("model");
  const revision = Number(get("revision")) || undefined;
  const found = useFile(which, model, revision);
  if (found.error || !found.data)
    return (
      <Page title="File">
        <Sheet>{found.error ? <Failed error={found.error} again={() => found.refetch()} /> : <Loading rows={8} />}</Sheet>
      </Page>
    );
  return <Known file={found.data} set={(name, to) => change({ [name]: to })} get={get} old={revision !== undefined} />;
}

interface KnownProps {
  file: LibraryFile;
  get: (name: string) => string;
  set: (name: string, v: string) => void;
  old: boolean;
}

function Known({ file: f, get, set, old }: KnownProps) {
  const models = useModels().data ?? [];
  const r = f.reading;
  const model = models.find((m) => m.name === r.model);
  const bed: [number, number] = model ? [model.volume_mm![0]!, model.volume_mm![1]!] : [220, 220];
  const [chosen, setChosen] = useState<string | null>(null);
  const [queueing, setQueueing] = useState(false);
  const [renaming, setRenaming] = useState(false);
  const [editing, setEditing] = useState<EditStart | null>(null);
  const layer = Number(get("layer") || 1);
  const rule = useFilmRule("file", String(f.id)).data;
  const shown = get("head") === "away";
  const run = useHeadAway(shown ? f.sha256 : undefined, r.model ?? "", rule?.settings.head_away ?? HEAD_AWAY).data;
  const away = useMemo(() => (run && shown ? { poses: run.poses, to: run.park_mm } : undefined), [run, shown]);
  const query = old ? `?revision=${f.revision}` : "";
  return (
    <Page
      title={
        <span className="flex flex-col">
          <span className="text-sm font-normal text-faded">
            <Link to="/library" className="text-faded">
              Library
            </Link>
            {f.folder && (
              <>
                {" / "}
                <Link to={`/library?folder=${encodeURIComponent(f.folder)}`} className="text-faded">
                  {f.folder}
                </Link>
              </>
            )}
          </span>
          <span className="flex flex-wrap items-baseline gap-x-3">
            {f.name}
            <span className="font-sans text-base font-normal text-faded">revision {f.revision}</span>
          </span>
        </span>
      }
      beside={
        <div className="flex flex-wrap gap-2">
          <a
            href={`/api/files/${f.id}/content${query}`}
            download
            className="inline-flex min-h-9 items-center gap-2 rounded-md border border-rule bg-sheet px-3.5 text-sm font-medium text-ink no-underline hover:bg-sunk"
          >
            <Download size={16} aria-hidden /> Download
          </a>
          {!old && (
            <>
              <Button needs="change_files" onClick={() => setRenaming(true)}>
                <Pencil size={16} aria-hidden /> Name, notes…
              </Button>
              <Button needs="change_files" onClick={() => setEditing({ layer })}>Edit…</Button>
              <Button needs="queue" kind="strong" onClick={() => setQueueing(true)}>
                Queue…
              </Button>
            </>
          )}
        </div>
      }
    >
      {old && (
        <p className="mt-0 mb-4 rounded-md bg-sunk px-4 py-2.5">
          This is an earlier content of the file. <Link to={`/library/files/${f.id}`}>Show the newest</Link>
        </p>
      )}
      <div className="grid gap-5 xl:grid-cols-[minmax(0,5fr)_minmax(20rem,2fr)]">
        <div className="flex min-w-0 flex-col gap-5">
          <Sheet className="overflow-hidden">
            <Viewer
              sha256={f.sha256}
              model={r.model ?? ""}
              layers={r.layers}
              bed={bed}
              objects={r.objects}
              chosen={chosen}
              choose={setChosen}
              layer={layer}
              onLayer={(n) => set("layer", String(n))}
              away={away}
              beside={
                <span className="flex flex-wrap items-center gap-x-4 gap-y-1">
                  <Drawings file={f} layer={layer} />
                  {models.length > 1 && (
                    <label className="flex items-center gap-2 text-sm text-faded">
                      Read for
                      <select
                        className="rounded-md border border-rule bg-ground px-2 py-1 text-ink"
                        value={r.model}
                        onChange={(e) => set("model", e.target.value)}
                      >
                        {models.map((m) => (
                          <option key={m.name}>{m.name}</option>
                        ))}
                      </select>
                    </label>
                  )}
                </span>
              }
            />
          </Sheet>
          {chosen && !old && (
            <div className="flex flex-wrap items-center gap-3 rounded-md bg-sunk px-4 py-2.5">
              <strong>{chosen}</strong>
              <ObjectFigures file={f} name={chosen} />
              {(r.objects?.length ?? 0) > 1 && (
                <Button needs="change_files" className="ml-auto" onClick={() => setEditing({ layer, kind: "skip", object: chosen })}>
                  Leave it out…
                </Button>
              )}
            </div>
          )}
          {!old && <FilmStrip of={{ file: f.id }} search={f.name} />}
          <Revisions file={f} />
          <HistorySheet kind="files" which={String(f.id)} />
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <Preflight file={f} />
          {!old && <FileFilms file={f} run={run} shown={shown} show={(on) => set("head", on ? "away" : "")} />}
          <Figures file={f} choose={setChosen} chosen={chosen} />
        </div>
      </div>
      {queueing && <QueueDialog wanted={{ name: f.name, file: f }} close={() => setQueueing(false)} />}
      {renaming && <AboutDialog file={f} close={() => setRenaming(false)} />}
      {editing && <EditDialog file={f} start={editing} close={() => setEditing(null)} />}
    </Page>
  );
}

/** How films of the file are made, and what taking the head out of the picture would come to: a dry run. */
function FileFilms({ file: f, run, shown, show }: { file: LibraryFile; run: PoseRun | undefined; shown: boolean; show: (on: boolean) => void }) {
  const model = f.reading.model ?? "";
  return (
    <Sheet>
      <SheetTitle>Films</SheetTitle>
      <div className="flex flex-col gap-2 px-5 pb-4">
        <FilmRuleLine scope="file" subject={String(f.id)} file={{ sha256: f.sha256, model }} />
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" checked={shown} onChange={(e) => show(e.target.checked)} /> Show the head going out of the picture
        </label>
        {shown && run && (
          <p className="m-0 text-sm text-faded" aria-live="polite">
            <AwayWords run={run} />
          </p>
        )}
      </div>
    </Sheet>
  );
}

/** The layer that is shown, to be taken away as a picture. */
function Drawings({ file: f, layer }: { file: LibraryFile; layer: number }) {
  const query = new URLSearchParams({ layer: String(layer), model: f.reading.model ?? "", title: f.name });
  return (
    <span className="text-sm text-faded">
      Drawing
      {["png", "svg"].map((kind) => (
        <a
          key={kind}
          className="ml-2 text-ink"
          download={`${f.name}-layer-${layer}.${kind}`}
          href={`/api/contents/${f.sha256}/drawing.${kind}?${query}`}
        >
          {kind.toUpperCase()}
        </a>
      ))}
    </span>
  );
}

function ObjectFigures({ file, name }: { file: LibraryFile; name: string }) {
  const grams = useGrams();
  const o = (file.reading.objects ?? []).find((x) => x.name === name);
  if (!o) return null;
  const xs = o.outline.map((p) => p[0]!);
  const ys = o.outline.map((p) => p[1]!);
  const wide = (v: number[]) => (Math.max(...v) - Math.min(...v)).toFixed(0);
  return (
    <span className="text-faded">
      {wide(xs)} × {wide(ys)} mm
      {o.seconds != null && `, ${duration(o.seconds)}`}
      {o.filament_mm != null && `, ${grams(o.filament_mm, file.reading.declared?.material)}`}
    </span>
  );
}

function Revisions({ file }: { file: LibraryFile }) {
  const revisions = useRevisions(String(file.id));
  const now = useNow(30_000);
  const back = useChange(
    (r: Revision) =>
      value(
        api.POST("/api/files/{which}/revisions/{number}/restore", {
          params: { path: { which: String(file.id), number: r.number } },
        }),
      ),
    "files",
    "jobs",
  );
  const list = revisions.data ?? [];
  const newest = list[0]?.number;
  return (
    <Sheet>
      <SheetTitle beside={list.length > 1 ? "jobs follow the newest unless pinned" : undefined}>Revisions</SheetTitle>
      <Refusal error={revisions.error ?? back.error} />
      <ul className="m-0 list-none divide-y divide-rule p-0 px-5 pb-3">
        {list.map((r) => (
          <li key={r.number} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-2">
            <strong className="w-6">{r.number}</strong>
            <span className="min-w-40 flex-1">
              {r.how}
              <span className="block text-sm text-faded">
                {when(r.added_at, now)} · {r.added_by} · {size(r.size)} · {r.sha256.slice(0, 12)}
              </span>
            </span>
            {r.number === file.revision && <span className="text-sm text-faded">shown</span>}
            {r.number !== newest && (
              <span className="flex gap-1">
                <Link className="self-center px-2 text-sm text-ink" to={`/library/files/${file.id}/compare?earlier=${r.number}`}>
                  Compare
                </Link>
                <Link className="self-center px-2 text-sm text-ink" to={`/library/files/${file.id}?revision=${r.number}`}>
                  Show
                </Link>
                <Button needs="change_files" kind="quiet" asked={back.isPending && back.variables?.number === r.number} onClick={() => back.mutate(r)}>
                  Make newest
                </Button>
              </span>
            )}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
