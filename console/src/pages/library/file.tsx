import { Download, Pencil } from "lucide-react";
import { Fragment, useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";

import { api, type Finding, type LibraryFile, type Revision, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange, useFile, useFolders, useModels, useParts, useRevisions } from "../../api/queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { duration, grams, metres, size, when } from "../../ui/format";
import { Fact, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Viewer } from "../../viewer/viewer";
import { EditDialog, type EditStart } from "./edit-dialog";
import { HistorySheet } from "./history";
import { QueueDialog } from "./queue-dialog";

export function FilePage() {
  const which = useParams().which ?? "";
  const [asked, setAsked] = useSearchParams();
  const model = asked.get("model") ?? "";
  const revision = asked.get("revision") ? Number(asked.get("revision")) : undefined;
  const found = useFile(which, model, revision);
  if (found.error || !found.data)
    return (
      <Page title="File">
        <Sheet>{found.error ? <Failed error={found.error} again={() => found.refetch()} /> : <Loading rows={8} />}</Sheet>
      </Page>
    );
  const set = (name: string, v: string) =>
    setAsked(
      (before) => {
        if (v) before.set(name, v);
        else before.delete(name);
        return before;
      },
      { replace: true },
    );
  return <Known file={found.data} set={set} asked={asked} old={revision !== undefined} />;
}

interface KnownProps {
  file: LibraryFile;
  asked: URLSearchParams;
  set: (name: string, v: string) => void;
  old: boolean;
}

function Known({ file: f, asked, set, old }: KnownProps) {
  const models = useModels().data ?? [];
  const r = f.reading;
  const model = models.find((m) => m.name === r.model);
  const bed: [number, number] = model ? [model.volume_mm![0]!, model.volume_mm![1]!] : [220, 220];
  const [chosen, setChosen] = useState<string | null>(null);
  const [queueing, setQueueing] = useState(false);
  const [renaming, setRenaming] = useState(false);
  const [editing, setEditing] = useState<EditStart | null>(null);
  const layer = Number(asked.get("layer") ?? 1);
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
              <Button onClick={() => setRenaming(true)}>
                <Pencil size={16} aria-hidden /> Name, notes…
              </Button>
              <Button onClick={() => setEditing({ layer })}>Edit…</Button>
              <Button kind="strong" onClick={() => setQueueing(true)}>
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
                <Button className="ml-auto" onClick={() => setEditing({ layer, kind: "skip", object: chosen })}>
                  Leave it out…
                </Button>
              )}
            </div>
          )}
          <Revisions file={f} />
          <HistorySheet kind="files" which={String(f.id)} />
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <Preflight file={f} />
          <Figures file={f} choose={setChosen} chosen={chosen} />
        </div>
      </div>
      {queueing && <QueueDialog wanted={{ name: f.name, file: f }} close={() => setQueueing(false)} />}
      {renaming && <AboutDialog file={f} close={() => setRenaming(false)} />}
      {editing && <EditDialog file={f} start={editing} close={() => setEditing(null)} />}
    </Page>
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

/** What stands against the file, and who set it aside. */
function Preflight({ file }: { file: LibraryFile }) {
  const findings = file.reading.findings ?? [];
  const [asking, setAsking] = useState<Finding | null>(null);
  if (findings.length === 0)
    return (
      <Sheet className="px-5 py-3.5">
        <strong>Preflight</strong> <span className="text-faded">· nothing stands against it on {file.reading.model || "a machine"}.</span>
      </Sheet>
    );
  const look = { refuse: "text-alarm font-semibold", warning: "font-semibold", note: "text-faded" };
  return (
    <Sheet>
      <SheetTitle beside={file.reading.model}>Preflight</SheetTitle>
      <ul className="m-0 list-none divide-y divide-rule p-0 px-5 pb-3">
        {findings.map((x) => (
          <li key={`${x.rule}${x.line}${x.text}`} className="py-2">
            <span className={x.overruled ? "text-faded" : look[x.severity]}>
              {x.overruled ? "overruled" : x.severity === "refuse" ? "refused" : x.severity}
            </span>
            {x.line > 0 && <span className="text-faded"> · line {x.line}</span>}
            <div>{x.text}</div>
            {x.overruled && <div className="text-sm text-faded">by {x.overruled}</div>}
            {x.severity === "refuse" && !x.overruled && (
              <Button className="mt-1.5" onClick={() => setAsking(x)}>
                Overrule…
              </Button>
            )}
          </li>
        ))}
      </ul>
      {asking && <Overrule file={file} finding={asking} close={() => setAsking(null)} />}
    </Sheet>
  );
}

function Overrule({ file, finding, close }: { file: LibraryFile; finding: Finding; close: () => void }) {
  const [reason, setReason] = useState("");
  const model = file.reading.model ?? "";
  const send = useChange(
    () =>
      value(
        api.POST("/api/files/{which}/overrule", {
          params: { path: { which: String(file.id) } },
          body: { model, rule: finding.rule, reason },
        }),
      ).then(close),
    "files",
    "jobs",
  );
  return (
    <Dialog open close={close} title="Overrule the preflight?" text={`${finding.text} It will run on ${model} all the same; your name and reason are recorded.`}>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate(undefined);
        }}
      >
        <Field label="Reason">
          <input autoFocus required minLength={3} className={inputLook} value={reason} onChange={(e) => setReason(e.target.value)} />
        </Field>
        <Refusal error={send.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="danger" type="submit" asked={send.isPending}>
            Overrule
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

function Figures({ file: f, chosen, choose }: { file: LibraryFile; chosen: string | null; choose: (name: string | null) => void }) {
  const r = f.reading;
  const said = r.declared;
  const filament = Object.entries(r.filament_mm);
  const box = (b: typeof r.extents_mm) =>
    b && (
      <span className="grid grid-cols-[auto_auto] gap-x-2">
        {["x", "y", "z"].map((a, i) => (
          <Fragment key={a}>
            <span className="text-faded">{a}</span> {b[0]![i]!.toFixed(1)} to {b[1]![i]!.toFixed(1)} mm
          </Fragment>
        ))}
      </span>
    );
  const expected = f.expected?.[r.model ?? ""];
  const objects = r.objects ?? [];
  const parts: [string, number | undefined][] = [
    ["heating", r.heating_s],
    ["homing and the like", r.other_s],
    ["dwelling", r.dwell_s],
  ];
  return (
    <Sheet>
      <SheetTitle beside={r.model}>What it says</SheetTitle>
      <dl className="m-0 px-5 pb-4">
        <Fact name="Planned time">{duration(r.planned_s)}</Fact>
        {parts
          .filter(([, s]) => (s ?? 0) >= 1)
          .map(([name, s]) => (
            <Fact key={name} name={`of it ${name}`}>
              {duration(s!)}
            </Fact>
          ))}
        {said?.seconds != null && <Fact name="The slicer says">{duration(said.seconds)}</Fact>}
        {expected != null && <Fact name="Expected, as such machines go">{duration(expected)}</Fact>}
        {(r.pauses ?? []).map((p) => (
          <Fact key={p.line} name={`Asks for hands, line ${p.line}`}>
            {p.meaning}
          </Fact>
        ))}
        <Fact name="Layers">
          {r.layers}
          {r.layer_height_mm ? ` of ${r.layer_height_mm} mm` : ""}
          {r.spiral ? ", one spiral" : ""}
          {r.by_object ? ", object after object" : ""}
        </Fact>
        {filament.map(([tool, mm]) => (
          <Fact key={tool} name={filament.length > 1 ? `Filament, tool ${tool}` : "Filament"}>
            {metres(mm)}, {((Math.PI / 4) * 1.75 ** 2 * mm * 1e-3).toFixed(1)} cm³, {grams(mm, said?.material)}
          </Fact>
        ))}
        <Fact name="Sliced for">
          {[said?.material, said?.nozzle_mm ? `${said.nozzle_mm} mm nozzle` : "", said?.model].filter(Boolean).join(", ") || "not said"}
        </Fact>
        <Fact name="Highest asked">
          nozzle {r.nozzle_c.toFixed(0)} °C, bed {r.bed_c.toFixed(0)} °C
        </Fact>
        {r.extents_mm && <Fact name="Lays">{box(r.extents_mm)}</Fact>}
        {r.travel_mm && <Fact name="Moves">{box(r.travel_mm)}</Fact>}
        <Fact name="Lines">{r.lines.toLocaleString("en-GB")}</Fact>
        <Fact name="Size">{size(f.size)}</Fact>
        {Object.keys(r.unknown ?? {}).length > 0 && (
          <Fact name="Unknown words">
            {Object.entries(r.unknown ?? {})
              .slice(0, 8)
              .map(([w, n]) => `${w} (${n})`)
              .join(", ")}
          </Fact>
        )}
        {f.part && (
          <Fact name="Makes">
            <Link to={`/library/parts/${f.part_id}`}>{f.part}</Link>
          </Fact>
        )}
        {f.notes && <Fact name="Notes">{f.notes}</Fact>}
        {Object.keys(f.times ?? {}).length > 1 &&
          Object.entries(f.times ?? {}).map(([name, s]) => (
            <Fact key={name} name={`On ${name}`}>
              {duration(s)}
            </Fact>
          ))}
      </dl>
      {objects.length > 0 && (
        <div className="border-t border-rule px-5 py-3">
          <div className="mb-1.5 text-sm text-faded">
            {objects.length === 1 ? "1 object" : `${objects.length} objects`} on the bed
            {objects.some((o) => !o.marked) && ", told apart by their footprints"}
          </div>
          <div className="flex max-h-40 flex-wrap gap-1.5 overflow-auto">
            {objects.map((o) => (
              <button
                key={o.name}
                type="button"
                aria-pressed={o.name === chosen}
                onClick={() => choose(o.name === chosen ? null : o.name)}
                className={`rounded-md border px-2 py-0.5 text-sm ${o.name === chosen ? "border-ink bg-ink text-ground" : "border-rule hover:bg-sunk"}`}
              >
                {o.name}
              </button>
            ))}
          </div>
        </div>
      )}
    </Sheet>
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
                <Button kind="quiet" asked={back.isPending && back.variables?.number === r.number} onClick={() => back.mutate(r)}>
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

/** Name, folder, part, tags and notes. */
function AboutDialog({ file, close }: { file: LibraryFile; close: () => void }) {
  const folders = useFolders().data ?? [];
  const parts = useParts().data ?? [];
  const [name, setName] = useState(file.name);
  const [folder, setFolder] = useState(file.folder ?? "");
  const [part, setPart] = useState(String(file.part_id ?? 0));
  const [tags, setTags] = useState((file.tags ?? []).join(", "));
  const [notes, setNotes] = useState(file.notes ?? "");
  const save = useChange(
    () =>
      value(
        api.PATCH("/api/files/{which}", {
          params: { path: { which: String(file.id) } },
          body: { name, folder, notes, part: Number(part), tags: tags.split(",").map((t) => t.trim()).filter(Boolean) },
        }),
      ).then(close),
    "files",
    "parts",
    "jobs",
  );
  return (
    <Dialog open close={close} title={`About ${file.name}`}>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate(undefined);
        }}
      >
        <Field label="Name">
          <input className={inputLook} required value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <div className="grid grid-cols-2 gap-4">
          <Field label="Folder">
            <select className={inputLook} value={folder} onChange={(e) => setFolder(e.target.value)}>
              <option value="">the library itself</option>
              {folders.map((x) => (
                <option key={x.path}>{x.path}</option>
              ))}
            </select>
          </Field>
          <Field label="Makes the part">
            <select className={inputLook} value={part} onChange={(e) => setPart(e.target.value)}>
              <option value="0">none</option>
              {parts.map((p) => (
                <option key={p.id} value={p.id}>
                  {p.name}
                </option>
              ))}
            </select>
          </Field>
        </div>
        <Field label="Tags" hint="With commas between.">
          <input className={inputLook} value={tags} onChange={(e) => setTags(e.target.value)} />
        </Field>
        <Field label="Notes">
          <textarea className={`${inputLook} min-h-24 py-2`} value={notes} onChange={(e) => setNotes(e.target.value)} />
        </Field>
        <Refusal error={save.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={save.isPending}>
            Save
          </Button>
        </div>
      </form>
    </Dialog>
  );
}

