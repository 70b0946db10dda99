import { FolderPlus, Upload } from "lucide-react";
import { type DragEvent, useMemo, useRef, useState } from "react";
import { Link } from "react-router";

import { CallFailed, type LibraryFile, sendFile } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useArrivals, useFiles, useLibrary } from "./queries";
import { Button } from "../../ui/button";
import { duration, percent, size, sum, when } from "../../ui/format";
import { useGrams } from "../machines/queries";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Sheet } from "../../ui/page";
import { AddFiles } from "./add-files";
import { BatchBar } from "./batch";
import { dropped, type Found } from "./dropped";
import { Filters, useFilter } from "./filters";
import { Folders, NewFolder } from "./folders";
import { type Follows, followsBody, ONLY_ADDED } from "./follows";
import { LibraryFrame, Thumb } from "./library-frame";
import { QueueDialog } from "./queue-dialog";

interface Sending {
  name: string;
  share: number;
  problem: string;
}

export function LibraryPage() {
  const [filter, change] = useFilter();
  const files = useFiles(filter);
  const library = useLibrary().data;
  const arrivals = useArrivals().data ?? [];
  const [sending, setSending] = useState<Sending[]>([]);
  const [over, setOver] = useState(false);
  const [queueing, setQueueing] = useState<LibraryFile | null>(null);
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const [naming, setNaming] = useState(false);
  const [adding, setAdding] = useState<Found[] | null>(null);
  const input = useRef<HTMLInputElement>(null);
  const set = (name: string, wish: Partial<Sending>) =>
    setSending((before) => before.map((s) => (s.name === name ? { ...s, ...wish } : s)));
  const add = useChange(
    async ({ found, follows }: { found: Found[]; follows: Follows }) => {
      setSending(found.map((f) => ({ name: f.file.name, share: 0, problem: "" })));
      for (const { file, folder } of found) {
        try {
          await sendFile(file, { folder, ...followsBody(follows) }, (share) => set(file.name, { share }));
          setSending((before) => before.filter((s) => s.name !== file.name));
        } catch (error) {
          set(file.name, { problem: error instanceof CallFailed ? error.message : String(error) });
        }
      }
    },
    "files",
    "arrivals",
    "jobs",
  );
  const drop = async (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    const found = await dropped(e.dataTransfer, filter.folder ?? "");
    if (found.length) setAdding(found);
  };
  const list = files.data ?? [];
  const picked = list.filter((f) => chosen.has(f.id));
  return (
    <LibraryFrame
      beside={
        <div className="flex gap-2">
          <Button needs="change_files" onClick={() => setNaming(true)}>
            <FolderPlus size={16} aria-hidden /> New folder…
          </Button>
          <Button needs="change_files" kind="strong" onClick={() => setAdding([])}>
            <Upload size={16} aria-hidden /> Add files…
          </Button>
        </div>
      }
    >
      <input
        ref={input}
        type="file"
        multiple
        hidden
        data-testid="files"
        onChange={(e) => {
          const taken = [...(e.target.files ?? [])].map((file) => ({ file, folder: filter.folder ?? "" }));
          if (taken.length) add.mutate({ found: taken, follows: ONLY_ADDED });
          e.target.value = "";
        }}
      />
      <div
        className="grid gap-5 lg:grid-cols-[13rem_minmax(0,1fr)]"
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={(e) => void drop(e)}
        data-testid="drop"
      >
        <Folders chosen={filter.folder ?? ""} choose={(folder) => change({ folder })} total={library?.files ?? 0} />
        <div className="min-w-0">
          {(sending.length > 0 || arrivals.length > 0) && (
            <ul className="mt-0 mb-4 flex list-none flex-col gap-2 p-0">
              {sending.map((s) => {
                const read = arrivals.find((a) => a.name === s.name);
                return (
                  <li
                    key={s.name}
                    role={s.problem ? "alert" : "status"}
                    className={`flex items-baseline gap-3 rounded-md px-4 py-2.5 ${s.problem ? "bg-alarm-wash text-alarm" : "bg-sunk"}`}
                  >
                    <strong className="shrink-0">{s.name}</strong>
                    <span className="flex-1">
                      {s.problem ||
                        (s.share < 1 ? `${percent(s.share)} sent` : `being read… ${read ? percent(read.progress ?? 0) : ""}`)}
                    </span>
                    {s.problem && (
                      <Button kind="quiet" onClick={() => setSending((before) => before.filter((x) => x !== s))}>
                        Dismiss
                      </Button>
                    )}
                  </li>
                );
              })}
              {arrivals
                .filter((a) => !sending.some((s) => s.name === a.name))
                .map((a) => (
                  <li key={a.id} role="status" className="flex items-baseline gap-3 rounded-md bg-sunk px-4 py-2.5">
                    <strong className="shrink-0">{a.name}</strong>
                    <span className="flex-1">being read… {percent(a.progress ?? 0)}</span>
                  </li>
                ))}
            </ul>
          )}
          {picked.length > 0 ? (
            <BatchBar files={picked} clear={() => setChosen(new Set())} />
          ) : (
            <Filters filter={filter} change={change} />
          )}
          <Sheet className={`overflow-hidden ${over ? "outline-2 outline-offset-2 outline-ink outline-dashed" : ""}`}>
            {files.error ? (
              <Failed error={files.error} again={() => files.refetch()} />
            ) : files.isPending ? (
              <Loading />
            ) : list.length === 0 ? (
              library?.files === 0 ? (
                <Empty title="The library is empty">Drop sliced G-code files here, or add them from this device, an address or a drive with “Add files”.</Empty>
              ) : (
                <Empty title="Nothing fits">
                  No file matches.{" "}
                  <Link to="/library" className="text-ink">
                    Show all files
                  </Link>
                </Empty>
              )
            ) : (
              <>
                <Table files={list} model={filter.model} queue={setQueueing} chosen={chosen} choose={setChosen} />
                <More of={files} />
              </>
            )}
          </Sheet>
          {list.length > 0 && (
            <p className="mt-3 text-sm text-faded">
              {list.length === 1 ? "1 file" : `${list.length} files`}
              {files.hasNextPage && " and more"}. Drop sliced files or folders anywhere here to add
              them; a changed file of the same name becomes its new revision.
            </p>
          )}
        </div>
      </div>
      {queueing && <QueueDialog wanted={{ name: queueing.name, file: queueing }} close={() => setQueueing(null)} />}
      {adding && <AddFiles folder={filter.folder ?? ""} staged={adding} send={(found, follows) => add.mutate({ found, follows })} close={() => setAdding(null)} />}
      {naming && <NewFolder inside={filter.folder ?? ""} close={() => setNaming(false)} />}
    </LibraryFrame>
  );
}

const cell = "px-3 py-2.5 first:pl-4 last:pr-4";

interface TableProps {
  files: LibraryFile[];
  model: string | undefined;
  queue: (file: LibraryFile) => void;
  chosen: ReadonlySet<number>;
  choose: (chosen: ReadonlySet<number>) => void;
}

function Table({ files, model, queue, chosen, choose }: TableProps) {
  const now = useNow(30_000);
  const last = useRef<number | null>(null);
  const every = files.every((f) => chosen.has(f.id));
  const toggle = (index: number, range: boolean) => {
    const next = new Set(chosen);
    const id = files[index]!.id;
    const [from, to] = range && last.current !== null ? [Math.min(last.current, index), Math.max(last.current, index)] : [index, index];
    const on = !chosen.has(id);
    for (const f of files.slice(from, to + 1)) {
      if (on) next.add(f.id);
      else next.delete(f.id);
    }
    last.current = index;
    choose(next);
  };
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse">
        <thead className="text-sm text-faded">
          <tr className="border-b border-rule">
            <th className={`${cell} w-0`}>
              <input
                type="checkbox"
                aria-label="Choose all"
                checked={every}
                onChange={() => choose(every ? new Set() : new Set(files.map((f) => f.id)))}
              />
            </th>
            <th className={`${cell} text-left font-medium`}>File</th>
            <th className={`${cell} hidden text-right font-medium sm:table-cell`}>Time</th>
            <th className={`${cell} hidden text-right font-medium md:table-cell`}>Filament</th>
            <th className={`${cell} hidden text-left font-medium md:table-cell`}>Sliced for</th>
            <th className={`${cell} hidden text-right font-medium 2xl:table-cell`}>Size</th>
            <th className={`${cell} hidden text-left font-medium sm:table-cell`}>Added</th>
            <th className={`${cell} hidden sm:table-cell`}>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {files.map((f, i) => (
            <Row key={f.id} file={f} now={now} model={model} on={chosen.has(f.id)} toggle={(range) => toggle(i, range)} queue={queue} />
          ))}
        </tbody>
      </table>
    </div>
  );
}

interface RowProps {
  file: LibraryFile;
  now: Date;
  model: string | undefined;
  on: boolean;
  toggle: (range: boolean) => void;
  queue: (file: LibraryFile) => void;
}

function Row({ file: f, now, model, on, toggle, queue }: RowProps) {
  const grams = useGrams();
  const said = f.reading.declared;
  const refused = (f.reading.findings ?? []).filter((x) => x.severity === "refuse").length;
  const details = useMemo(
    () =>
      [f.revision && f.revision > 1 ? `revision ${f.revision}` : "", `${f.reading.layers} layers`, f.part ? `part ${f.part}` : "", f.folder]
        .filter(Boolean)
        .join(" · "),
    [f],
  );
  return (
    <tr className={`border-b border-rule last:border-0 ${on ? "bg-sunk/50" : ""}`}>
      <td className={`${cell} w-0`}>
        <input
          type="checkbox"
          aria-label={`Choose ${f.name}`}
          checked={on}
          onChange={(e) => toggle((e.nativeEvent as MouseEvent).shiftKey)}
        />
      </td>
      <td className={cell}>
        <div className="flex items-center gap-3">
          <Thumb file={f} />
          <div className="min-w-0">
            <Link to={`/library/files/${f.id}`} className="font-semibold text-ink no-underline hover:underline">
              {f.name}
            </Link>
            <div className="text-sm text-faded">
              <span className="text-ink sm:hidden">{duration(f.reading.planned_s)} · </span>
              {details}
              {(f.tags ?? []).map((tag) => (
                <span key={tag} className="ml-1.5 rounded bg-sunk px-1.5 text-ink">
                  {tag}
                </span>
              ))}
              {refused > 0 && <span className="ml-1.5 font-semibold text-alarm">refused on {f.reading.model}</span>}
            </div>
          </div>
        </div>
      </td>
      <td className={`${cell} hidden text-right whitespace-nowrap sm:table-cell`} title={model ? `on ${model}` : undefined}>
        {duration(f.reading.planned_s)}
      </td>
      <td className={`${cell} hidden text-right whitespace-nowrap md:table-cell`}>
        {grams(sum(Object.values(f.reading.filament_mm)), said?.material)}
      </td>
      <td className={`${cell} hidden whitespace-nowrap md:table-cell`}>
        {[said?.material, said?.nozzle_mm ? `${said.nozzle_mm} mm` : ""].filter(Boolean).join(" · ") || <span className="text-faded">not said</span>}
      </td>
      <td className={`${cell} hidden text-right whitespace-nowrap 2xl:table-cell`}>{size(f.size)}</td>
      <td className={`${cell} hidden whitespace-nowrap text-faded sm:table-cell`}>
        {when(f.added_at, now)} · {f.added_by}
      </td>
      <td className={`${cell} hidden text-right sm:table-cell`}>
        <Button needs="queue" onClick={() => queue(f)}>Queue…</Button>
      </td>
    </tr>
  );
}
