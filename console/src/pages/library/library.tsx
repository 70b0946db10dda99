import { FolderClosed, FolderPlus, Search, Upload } from "lucide-react";
import { type DragEvent, useMemo, useRef, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, CallFailed, type Folder, type LibraryFile, sendFile, value } from "../../api/client";
import { useNow } from "../../api/live";
import { type FileFilter, useArrivals, useChange, useFiles, useFolders, useModels } from "../../api/queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { duration, grams, percent, size, sum, when } from "../../ui/format";
import { Empty, Failed, Loading, Refusal, Sheet } from "../../ui/page";
import { BatchBar } from "./batch";
import { dropped, type Found } from "./dropped";
import { LibraryFrame, Thumb } from "./frame";
import { QueueDialog } from "./queue-dialog";

interface Sending {
  name: string;
  share: number;
  problem: string;
}

/** The filter as the page's address has it. */
function useFilter(): [FileFilter, (change: Record<string, string>) => void] {
  const [asked, set] = useSearchParams();
  const text = (name: string) => asked.get(name) || undefined;
  const number = (name: string) => (asked.get(name) ? Number(asked.get(name)) : undefined);
  const filter: FileFilter = {
    search: text("search"),
    folder: text("folder"),
    tag: text("tag"),
    material: text("material"),
    nozzle_mm: number("nozzle"),
    model: text("model"),
    least_s: number("least") && number("least")! * 60,
    most_s: number("most") && number("most")! * 60,
    least_size: number("size") && number("size")! * 1e6,
  };
  const change = (wish: Record<string, string>) =>
    set(
      (before) => {
        for (const [name, v] of Object.entries(wish)) {
          if (v) before.set(name, v);
          else before.delete(name);
        }
        return before;
      },
      { replace: true },
    );
  return [filter, change];
}

export function LibraryPage() {
  const [filter, change] = useFilter();
  const files = useFiles(filter);
  const all = useFiles();
  const arrivals = useArrivals().data ?? [];
  const [sending, setSending] = useState<Sending[]>([]);
  const [over, setOver] = useState(false);
  const [queueing, setQueueing] = useState<LibraryFile | null>(null);
  const [chosen, setChosen] = useState<ReadonlySet<number>>(new Set());
  const [naming, setNaming] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const set = (name: string, wish: Partial<Sending>) =>
    setSending((before) => before.map((s) => (s.name === name ? { ...s, ...wish } : s)));
  const add = useChange(
    async (found: Found[]) => {
      setSending(found.map((f) => ({ name: f.file.name, share: 0, problem: "" })));
      for (const { file, folder } of found) {
        try {
          await sendFile(file, folder, (share) => set(file.name, { share }));
          setSending((before) => before.filter((s) => s.name !== file.name));
        } catch (error) {
          set(file.name, { problem: error instanceof CallFailed ? error.message : String(error) });
        }
      }
    },
    "files",
    "arrivals",
  );
  const drop = async (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    const found = await dropped(e.dataTransfer, filter.folder ?? "");
    if (found.length) add.mutate(found);
  };
  const list = files.data ?? [];
  const picked = list.filter((f) => chosen.has(f.id));
  return (
    <LibraryFrame
      beside={
        <div className="flex gap-2">
          <Button onClick={() => setNaming(true)}>
            <FolderPlus size={16} aria-hidden /> New folder…
          </Button>
          <Button kind="strong" onClick={() => input.current?.click()}>
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
          if (taken.length) add.mutate(taken);
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
        <Folders chosen={filter.folder ?? ""} choose={(folder) => change({ folder })} total={all.data?.length ?? 0} />
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
            <Filters filter={filter} change={change} files={all.data ?? []} />
          )}
          <Sheet className={`overflow-hidden ${over ? "outline-2 outline-offset-2 outline-ink outline-dashed" : ""}`}>
            {files.error ? (
              <Failed error={files.error} again={() => files.refetch()} />
            ) : files.isPending ? (
              <Loading />
            ) : list.length === 0 ? (
              (all.data?.length ?? 0) === 0 ? (
                <Empty title="The library is empty">Drop sliced G-code files here, or choose them with “Add files”.</Empty>
              ) : (
                <Empty title="Nothing fits">
                  No file matches.{" "}
                  <Link to="/library" className="text-ink">
                    Show all files
                  </Link>
                </Empty>
              )
            ) : (
              <Table files={list} model={filter.model} queue={setQueueing} chosen={chosen} choose={setChosen} />
            )}
          </Sheet>
          {list.length > 0 && (
            <p className="mt-3 text-sm text-faded">
              {list.length === 1 ? "1 file" : `${list.length} files`}. Drop sliced files or folders anywhere here to add
              them; a changed file of the same name becomes its new revision.
            </p>
          )}
        </div>
      </div>
      {queueing && <QueueDialog wanted={{ name: queueing.name, file: queueing }} close={() => setQueueing(null)} />}
      {naming && <NewFolder inside={filter.folder ?? ""} close={() => setNaming(false)} />}
    </LibraryFrame>
  );
}

function Folders({ chosen, choose, total }: { chosen: string; choose: (path: string) => void; total: number }) {
  const folders = useFolders().data ?? [];
  const below = (path: string) => sum(folders.filter((f) => f.path === path || f.path.startsWith(`${path}/`)).map((f) => f.files ?? 0));
  const rows: Folder[] = [{ path: "", files: total }, ...folders.map((f) => ({ ...f, files: below(f.path) }))];
  const name = (path: string) => path.split("/").at(-1) || "All files";
  return (
    <nav aria-label="Folders" className="min-w-0">
      <select
        aria-label="Folder"
        className={`${inputLook} lg:hidden`}
        value={chosen}
        onChange={(e) => choose(e.target.value)}
      >
        {rows.map((f) => (
          <option key={f.path} value={f.path}>
            {f.path || "All files"} ({f.files})
          </option>
        ))}
      </select>
      <ul className="m-0 hidden list-none flex-col p-0 lg:flex">
        {rows.map((f) => {
          const depth = f.path ? f.path.split("/").length : 0;
          return (
            <li key={f.path}>
              <button
                type="button"
                aria-current={f.path === chosen}
                onClick={() => choose(f.path)}
                style={{ paddingLeft: `${0.6 + depth * 0.75}rem` }}
                className={`flex w-full items-center gap-2 rounded-md py-1.5 pr-2.5 text-left ${f.path === chosen ? "bg-sunk font-semibold" : "text-ink hover:bg-sunk/60"}`}
              >
                {depth > 0 && <FolderClosed size={15} aria-hidden className="shrink-0 text-faded" />}
                <span className="min-w-0 flex-1 truncate">{name(f.path)}</span>
                <span className="text-sm text-faded">{f.files}</span>
              </button>
            </li>
          );
        })}
      </ul>
      {chosen && <FolderDeeds path={chosen} choose={choose} />}
    </nav>
  );
}

/** Rename the chosen folder, or remove it when it is empty. */
function FolderDeeds({ path, choose }: { path: string; choose: (path: string) => void }) {
  const [to, setTo] = useState<string | null>(null);
  const move = useChange(
    () => value(api.POST("/api/folders/move", { body: { path, to: to ?? "" } })).then(() => (choose(to ?? ""), setTo(null))),
    "files",
  );
  const remove = useChange(
    () => value(api.DELETE("/api/folders", { params: { query: { path } } })).then(() => choose("")),
    "files",
  );
  return (
    <div className="mt-2">
      <Button kind="quiet" onClick={() => setTo(path)}>
        Rename…
      </Button>
      <Button kind="quiet" asked={remove.isPending} onClick={() => remove.mutate(undefined)}>
        Remove
      </Button>
      <Refusal error={remove.error} />
      {to !== null && (
        <Dialog open close={() => setTo(null)} title={`Rename ${path}`} text="Its files go with it; a / puts it inside another.">
          <form
            className="flex flex-col gap-4"
            onSubmit={(e) => {
              e.preventDefault();
              move.mutate(undefined);
            }}
          >
            <Field label="New path">
              <input autoFocus required className={inputLook} value={to} onChange={(e) => setTo(e.target.value)} />
            </Field>
            <Refusal error={move.error} />
            <div className="flex justify-end gap-2">
              <Button kind="quiet" onClick={() => setTo(null)}>
                Cancel
              </Button>
              <Button kind="strong" type="submit" asked={move.isPending}>
                Rename
              </Button>
            </div>
          </form>
        </Dialog>
      )}
    </div>
  );
}

function Filters({ filter, change, files }: { filter: FileFilter; change: (c: Record<string, string>) => void; files: LibraryFile[] }) {
  const models = useModels().data ?? [];
  const of = (pick: (f: LibraryFile) => (string | number | null | undefined)[]) =>
    [...new Set(files.flatMap(pick))].filter((v) => v !== "" && v != null).sort();
  const materials = of((f) => [f.reading.declared?.material]);
  const nozzles = of((f) => [f.reading.declared?.nozzle_mm]);
  const tags = of((f) => f.tags ?? []);
  const select = (label: string, name: string, chosen: string, options: (string | number)[], unit = "") =>
    options.length > 0 && (
      <select
        aria-label={label}
        className="min-h-9 rounded-md border border-rule bg-sheet px-2 text-sm text-ink"
        value={chosen}
        onChange={(e) => change({ [name]: e.target.value })}
      >
        <option value="">{label}: any</option>
        {options.map((o) => (
          <option key={o} value={o}>
            {o}
            {unit}
          </option>
        ))}
      </select>
    );
  const times: [string, string, string][] = [
    ["under half an hour", "", "30"],
    ["half to one hour", "30", "60"],
    ["one to four hours", "60", "240"],
    ["over four hours", "240", ""],
  ];
  const time = times.findIndex(
    ([, least, most]) => (filter.least_s ?? 0) / 60 === Number(least || 0) && (filter.most_s ?? 0) / 60 === Number(most || 0),
  );
  const [open, setOpen] = useState(false);
  return (
    <div className={`mb-3 flex flex-wrap items-center gap-2 ${open ? "" : "[&>select]:hidden sm:[&>select]:block"}`}>
      <label className="relative min-w-48 flex-1">
        <span className="sr-only">Search</span>
        <Search size={16} aria-hidden className="absolute top-1/2 left-3 -translate-y-1/2 text-faded" />
        <input
          type="search"
          placeholder="Name, note, tag or part"
          className="min-h-9 w-full rounded-md border border-rule bg-sheet pr-3 pl-9 text-sm"
          value={filter.search ?? ""}
          onChange={(e) => change({ search: e.target.value })}
        />
      </label>
      <Button className="sm:hidden" aria-expanded={open} onClick={() => setOpen(!open)}>
        Filter
      </Button>
      {select("Material", "material", filter.material ?? "", materials as string[])}
      {select("Nozzle", "nozzle", String(filter.nozzle_mm ?? ""), nozzles as number[], " mm")}
      {select("Model", "model", filter.model ?? "", models.map((m) => m.name))}
      {select("Tag", "tag", filter.tag ?? "", tags as string[])}
      <select
        aria-label="Time"
        className="min-h-9 rounded-md border border-rule bg-sheet px-2 text-sm text-ink"
        value={filter.least_s || filter.most_s ? time : ""}
        onChange={(e) => {
          const [, least, most] = times[Number(e.target.value)] ?? ["", "", ""];
          change(e.target.value === "" ? { least: "", most: "" } : { least, most });
        }}
      >
        <option value="">Time: any</option>
        {times.map(([name], i) => (
          <option key={name} value={i}>
            {name}
          </option>
        ))}
      </select>
      <select
        aria-label="Size"
        className="min-h-9 rounded-md border border-rule bg-sheet px-2 text-sm text-ink"
        value={filter.least_size ? filter.least_size / 1e6 : ""}
        onChange={(e) => change({ size: e.target.value })}
      >
        <option value="">Size: any</option>
        {[1, 10, 100].map((mb) => (
          <option key={mb} value={mb}>
            {mb} MB or more
          </option>
        ))}
      </select>
    </div>
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
        <Button onClick={() => queue(f)}>Queue…</Button>
      </td>
    </tr>
  );
}

function NewFolder({ inside, close }: { inside: string; close: () => void }) {
  const [name, setName] = useState("");
  const make = useChange(
    () => value(api.POST("/api/folders", { body: { path: [inside, name].filter(Boolean).join("/"), files: 0 } })).then(close),
    "files",
  );
  return (
    <Dialog open close={close} title="New folder" text={inside ? `Inside ${inside}.` : undefined}>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate(undefined);
        }}
      >
        <Field label="Name">
          <input autoFocus required className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
        <Refusal error={make.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={make.isPending}>
            Make folder
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
