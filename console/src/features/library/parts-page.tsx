import { lazy, Suspense, useRef, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { api, CallFailed, type LibraryFile, type Part, type PartSuggestion, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useEveryFile, usePart, useParts, useSuggestions } from "./queries";
import { Button } from "../../ui/button";
import { Dialog, Field, FormDialog, inputLook } from "../../ui/dialog";
import { duration } from "../../ui/format";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { PartWays } from "../ledger/part-ways";
import { FilmStrip } from "../watching/film-strip";
import { LibraryFrame, Thumb } from "./library-frame";
import { HistorySheet } from "./history";
import { QueueDialog } from "./queue-dialog";

const Solid = lazy(() => import("../../viewer/part-view").then((m) => ({ default: m.Solid })));

const count = (n: number, one: string, many = `${one}s`) => `${n} ${n === 1 ? one : many}`;

export function PartsPage() {
  const parts = useParts();
  const [adding, setAdding] = useState(false);
  const list = parts.data ?? [];
  return (
    <LibraryFrame
      beside={
        <Button needs="change_files" kind="strong" onClick={() => setAdding(true)}>
          New part…
        </Button>
      }
    >
      <Suggestions />
      <Sheet className="overflow-hidden">
        {parts.error ? (
          <Failed error={parts.error} again={() => parts.refetch()} />
        ) : parts.isPending ? (
          <Loading />
        ) : list.length === 0 ? (
          <Empty title="No parts yet">A part gathers the files that make the same thing on different machines.</Empty>
        ) : (
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {list.map((p) => (
              <li key={p.id} className="flex flex-wrap items-center gap-4 px-5 py-3">
                {p.files?.[0] ? <Thumb file={p.files[0]} /> : <span className="h-11 w-11 rounded bg-sunk" />}
                <div className="min-w-48 flex-1">
                  <Link to={`/library/parts/${p.id}`} className="font-semibold text-ink no-underline hover:underline">
                    {p.name}
                  </Link>
                  <div className="text-sm text-faded">
                    {p.files?.length ? p.files.map((f) => f.name).join(", ") : "no file makes it yet"}
                    {p.shape && ` · ${p.shape.size_mm.map((v) => v.toFixed(1)).join(" × ")} mm`}
                  </div>
                </div>
                <span className="text-sm text-faded">{count(p.files?.length ?? 0, "file")}</span>
              </li>
            ))}
          </ul>
        )}
        <More of={parts} />
      </Sheet>
      {adding && <NewPart close={() => setAdding(false)} />}
    </LibraryFrame>
  );
}

/** Files that seem to belong together; a person confirms. */
function Suggestions() {
  const found = useSuggestions().data ?? [];
  const files = useEveryFile().data ?? [];
  const name = (id: number) => files.find((f) => f.id === id)?.name ?? `file ${id}`;
  const accept = useChange(
    async (s: PartSuggestion) => {
      if (s.part == null) await value(api.POST("/api/parts", { body: { name: s.name, notes: "", files: s.files } }));
      else {
        const which = { path: { which: String(s.part) } };
        const there = await value(api.GET("/api/parts/{which}", { params: which }));
        const all = [...(there.files ?? []).map((f) => f.id), ...s.files];
        await value(api.PATCH("/api/parts/{which}", { params: which, body: { files: all } }));
      }
    },
    "parts",
    "files",
  );
  if (found.length === 0) return null;
  return (
    <Sheet className="mb-5">
      <SheetTitle beside="from names and content">Do these make the same thing?</SheetTitle>
      <Refusal error={accept.error} />
      <ul className="m-0 list-none divide-y divide-rule p-0 px-5 pb-2">
        {found.slice(0, 6).map((s) => (
          <li key={s.name} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-2.5">
            <div className="min-w-56 flex-1">
              <strong>{s.name}</strong>: {s.files.map(name).join(", ")}
              <div className="text-sm text-faded">{s.why}</div>
            </div>
            <Button needs="change_files" asked={accept.isPending && accept.variables?.name === s.name} onClick={() => accept.mutate(s)}>
              {s.part == null ? "Make it a part" : "Add to the part"}
            </Button>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

function NewPart({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const navigate = useNavigate();
  const make = useChange(
    () =>
      value(api.POST("/api/parts", { body: { name, notes: "", files: [] } })).then((p) => void navigate(`/library/parts/${p.id}`)),
    "parts",
  );
  return (
    <FormDialog
      title="New part"
      text="Its files are chosen on its page."
      close={close}
      send={() => make.mutate(undefined)}
      asked={make.isPending}
      error={make.error}
      action="Make part"
    >
      <Field label="Name">
        <input autoFocus required className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
    </FormDialog>
  );
}

export function PartPage() {
  const which = useParams().which ?? "";
  const part = usePart(which);
  if (!part.data)
    return (
      <Page title="Part">
        <Sheet>{part.error ? <Failed error={part.error} again={() => part.refetch()} /> : <Loading rows={6} />}</Sheet>
      </Page>
    );
  return <Known part={part.data} />;
}

function Known({ part: p }: { part: Part }) {
  const [queueing, setQueueing] = useState(false);
  const [choosing, setChoosing] = useState(false);
  const files = p.files ?? [];
  return (
    <Page
      title={
        <span className="flex flex-col">
          <Link to="/library/parts" className="text-sm font-normal text-faded">
            Parts
          </Link>
          {p.name}
        </span>
      }
      beside={
        <div className="flex gap-2">
          <Button needs="change_files" onClick={() => setChoosing(true)}>Files…</Button>
          <Button needs="queue" kind="strong" disabled={files.length === 0} onClick={() => setQueueing(true)}>
            Queue…
          </Button>
        </div>
      }
    >
      <div className="grid gap-5 lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]">
        <div className="flex flex-col gap-5">
          <Sheet className="overflow-hidden">
            <SheetTitle beside="whichever machine comes free takes the one that fits it">Made by</SheetTitle>
            {files.length === 0 ? (
              <Empty title="No file makes it yet">Choose the files that make it, each for its machines.</Empty>
            ) : (
              <ul className="m-0 list-none divide-y divide-rule p-0">
                {files.map((f) => (
                  <Variant key={f.id} file={f} />
                ))}
              </ul>
            )}
          </Sheet>
          <PartWays part={p.id} />
          <FilmStrip of={{ part: p.id }} search={p.name} />
          <HistorySheet kind="parts" which={String(p.id)} />
        </div>
        <ShapeSheet part={p} />
      </div>
      {queueing && <QueueDialog wanted={{ name: p.name, part: p }} close={() => setQueueing(false)} />}
      {choosing && <ChooseFiles part={p} close={() => setChoosing(false)} />}
    </Page>
  );
}

function Variant({ file: f }: { file: LibraryFile }) {
  const said = f.reading.declared;
  const refused = (f.reading.findings ?? []).some((x) => x.severity === "refuse");
  return (
    <li className="flex flex-wrap items-center gap-4 px-5 py-3">
      <Thumb file={f} />
      <div className="min-w-48 flex-1">
        <Link to={`/library/files/${f.id}`} className="font-semibold text-ink no-underline hover:underline">
          {f.name}
        </Link>
        <div className="text-sm text-faded">
          {[said?.material, said?.nozzle_mm && `${said.nozzle_mm} mm nozzle`, said?.model, `${f.reading.objects?.length ?? 0} on the bed`]
            .filter(Boolean)
            .join(" · ")}
          {refused && <span className="text-alarm"> · refused on {f.reading.model}</span>}
        </div>
      </div>
      <div className="text-right text-sm">
        {Object.entries(f.times ?? {}).map(([model, s]) => (
          <div key={model}>
            <span className="text-faded">{model}</span> {duration(s)}
          </div>
        ))}
      </div>
    </li>
  );
}

/** The part's model for reference, drawn with its dimensions. */
function ShapeSheet({ part: p }: { part: Part }) {
  const input = useRef<HTMLInputElement>(null);
  const give = useChange(async (file: File) => {
    const me = await value(api.GET("/api/me"));
    const answer = await fetch(`/api/parts/${p.id}/model?name=${encodeURIComponent(file.name)}`, {
      method: "PUT",
      body: file,
      headers: { "X-CSRF-Token": me.csrf ?? "" },
    });
    if (!answer.ok) throw new CallFailed(answer.status, ((await answer.json()) as { detail: string }).detail);
  }, "parts");
  const s = p.shape;
  return (
    <Sheet className="overflow-hidden">
      <SheetTitle beside={s ? `${s.name} · ${s.triangles.toLocaleString("en-GB")} triangles` : undefined}>Model</SheetTitle>
      <input
        ref={input}
        type="file"
        accept=".stl,.3mf"
        hidden
        data-testid="model"
        onChange={(e) => e.target.files?.[0] && give.mutate(e.target.files[0])}
      />
      {s ? (
        <>
          <div className="h-80 bg-sunk/40">
            <Suspense fallback={<Loading rows={4} />}>
              <Solid part={p.id} about={`${s.name} ${s.triangles}`} />
            </Suspense>
          </div>
          <p className="m-0 px-5 py-3">
            {["wide", "deep", "high"].map((word, i) => (
              <span key={word} className="mr-4">
                <strong>{s.size_mm[i]!.toFixed(1)} mm</strong> <span className="text-faded">{word}</span>
              </span>
            ))}
            <Button needs="change_files" kind="quiet" onClick={() => input.current?.click()}>
              Another…
            </Button>
          </p>
        </>
      ) : (
        <Empty title="No model">
          <p className="mt-0">An STL or 3MF file, to see what the part should be.</p>
          <Button needs="change_files" asked={give.isPending} onClick={() => input.current?.click()}>
            Give it one…
          </Button>
        </Empty>
      )}
      <Refusal error={give.error} />
    </Sheet>
  );
}

function ChooseFiles({ part: p, close }: { part: Part; close: () => void }) {
  const files = useEveryFile().data ?? [];
  const [chosen, setChosen] = useState(new Set((p.files ?? []).map((f) => f.id)));
  const [search, setSearch] = useState("");
  const save = useChange(
    () => value(api.PATCH("/api/parts/{which}", { params: { path: { which: String(p.id) } }, body: { files: [...chosen] } })).then(close),
    "parts",
    "files",
  );
  const flip = (id: number) => {
    const next = new Set(chosen);
    if (!next.delete(id)) next.add(id);
    setChosen(next);
  };
  return (
    <Dialog open close={close} title={`Files that make ${p.name}`}>
      <input className={inputLook} placeholder="Search" value={search} onChange={(e) => setSearch(e.target.value)} />
      <ul className="m-0 max-h-72 list-none overflow-auto p-0">
        {files
          .filter((f) => f.name.toLowerCase().includes(search.toLowerCase()))
          .map((f) => (
            <li key={f.id}>
              <label className="flex items-center gap-3 py-1.5">
                <input type="checkbox" checked={chosen.has(f.id)} onChange={() => flip(f.id)} />
                {f.name}
                {f.part && f.part_id !== p.id && <span className="text-sm text-faded">now makes {f.part}</span>}
              </label>
            </li>
          ))}
      </ul>
      <Refusal error={save.error} />
      <div className="flex justify-end gap-2">
        <Button kind="quiet" onClick={close}>
          Cancel
        </Button>
        <Button kind="strong" asked={save.isPending} onClick={() => save.mutate(undefined)}>
          Save
        </Button>
      </div>
    </Dialog>
  );
}
