import { Upload } from "lucide-react";
import { type DragEvent, useRef, useState } from "react";

import { CallFailed, type LibraryFile, sendFile } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange, useFiles } from "../../api/queries";
import { Button } from "../../ui/button";
import { duration, metres, percent, size, sum, when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { QueueDialog } from "./queue-dialog";

interface Sending {
  name: string;
  share: number;
  problem: string;
}

export function LibraryPage() {
  const files = useFiles();
  const [sending, setSending] = useState<Sending[]>([]);
  const [over, setOver] = useState(false);
  const [queueing, setQueueing] = useState<LibraryFile | null>(null);
  const input = useRef<HTMLInputElement>(null);
  const set = (name: string, change: Partial<Sending>) =>
    setSending((before) => before.map((s) => (s.name === name ? { ...s, ...change } : s)));
  const add = useChange(async (chosen: File[]) => {
    setSending(chosen.map((f) => ({ name: f.name, share: 0, problem: "" })));
    for (const file of chosen) {
      try {
        await sendFile(file, (share) => set(file.name, { share }));
        setSending((before) => before.filter((s) => s.name !== file.name));
      } catch (error) {
        set(file.name, { problem: error instanceof CallFailed ? error.message : String(error) });
      }
    }
  }, "files");
  const take = (list: FileList | null) => list && list.length > 0 && add.mutate([...list]);
  const drop = (e: DragEvent) => {
    e.preventDefault();
    setOver(false);
    take(e.dataTransfer.files);
  };
  return (
    <Page
      title="Library"
      beside={
        <Button kind="strong" onClick={() => input.current?.click()}>
          <Upload size={16} aria-hidden /> Add files…
        </Button>
      }
    >
      <input
        ref={input}
        type="file"
        multiple
        hidden
        data-testid="files"
        onChange={(e) => {
          take(e.target.files);
          e.target.value = "";
        }}
      />
      <div
        onDragOver={(e) => {
          e.preventDefault();
          setOver(true);
        }}
        onDragLeave={() => setOver(false)}
        onDrop={drop}
        data-testid="drop"
      >
        {sending.length > 0 && (
          <ul className="mt-0 mb-4 flex list-none flex-col gap-2 p-0">
            {sending.map((s) => (
              <li
                key={s.name}
                role={s.problem ? "alert" : "status"}
                className={`flex items-baseline gap-3 rounded-md px-4 py-2.5 ${s.problem ? "bg-alarm-wash text-alarm" : "bg-sunk"}`}
              >
                <strong className="shrink-0">{s.name}</strong>
                <span className="flex-1">{s.problem || (s.share < 1 ? `${percent(s.share)} sent` : "being read…")}</span>
                {s.problem && (
                  <Button kind="quiet" onClick={() => setSending((before) => before.filter((x) => x !== s))}>
                    Dismiss
                  </Button>
                )}
              </li>
            ))}
          </ul>
        )}
        <Sheet className={`overflow-hidden ${over ? "outline-2 outline-offset-2 outline-ink outline-dashed" : ""}`}>
          {files.error ? (
            <Failed error={files.error} again={() => files.refetch()} />
          ) : files.isPending ? (
            <Loading />
          ) : files.data.length === 0 ? (
            <Empty title="The library is empty">Drop sliced G-code files here, or choose them with “Add files”.</Empty>
          ) : (
            <Table files={files.data} queue={setQueueing} />
          )}
        </Sheet>
        {(files.data?.length ?? 0) > 0 && (
          <p className="mt-3 text-sm text-faded">Drop sliced files anywhere on this list to add them.</p>
        )}
      </div>
      {queueing && <QueueDialog file={queueing} close={() => setQueueing(null)} />}
    </Page>
  );
}

const cell = "px-3 py-3 first:pl-5 last:pr-5";

function Table({ files, queue }: { files: LibraryFile[]; queue: (file: LibraryFile) => void }) {
  const now = useNow(30_000);
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse">
        <thead className="text-sm text-faded">
          <tr className="border-b border-rule">
            <th className={`${cell} text-left font-medium`}>File</th>
            <th className={`${cell} text-right font-medium`}>Time</th>
            <th className={`${cell} hidden text-right font-medium md:table-cell`}>Layers</th>
            <th className={`${cell} hidden text-right font-medium md:table-cell`}>Filament</th>
            <th className={`${cell} hidden text-right font-medium lg:table-cell`}>Nozzle / bed</th>
            <th className={`${cell} hidden text-right font-medium lg:table-cell`}>Size</th>
            <th className={`${cell} hidden text-left font-medium sm:table-cell`}>Added</th>
            <th className={cell}>
              <span className="sr-only">Actions</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {files.map((f) => (
            <tr key={f.id} className="border-b border-rule last:border-0">
              <td className={`${cell} font-semibold`}>{f.name}</td>
              <td className={`${cell} text-right whitespace-nowrap`}>{duration(f.reading.planned_s)}</td>
              <td className={`${cell} hidden text-right md:table-cell`}>{f.reading.layers}</td>
              <td className={`${cell} hidden text-right whitespace-nowrap md:table-cell`}>
                {metres(sum(Object.values(f.reading.filament_mm)))}
              </td>
              <td className={`${cell} hidden text-right whitespace-nowrap lg:table-cell`}>
                {f.reading.nozzle_c} / {f.reading.bed_c} °C
              </td>
              <td className={`${cell} hidden text-right whitespace-nowrap lg:table-cell`}>{size(f.size)}</td>
              <td className={`${cell} hidden whitespace-nowrap text-faded sm:table-cell`}>
                {when(f.added_at, now)} · {f.added_by}
              </td>
              <td className={`${cell} text-right`}>
                <Button onClick={() => queue(f)}>Queue…</Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
