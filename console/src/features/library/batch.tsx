import { useState } from "react";

import { api, type LibraryFile, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useFolders } from "./queries";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";

type Deed = "move" | "tag" | "queue" | "bin" | "restore";

/** Have one thing done with many files; what was refused is said. */
export function useBatch() {
  return useChange(
    async (order: { files: number[]; deed: Deed; folder?: string; tags?: string[]; copies?: number }) => {
      const { folder = "", tags = [], copies = 1, ...rest } = order;
      const result = await value(api.POST("/api/files/batch", { body: { ...rest, folder, tags, copies } }));
      const why = Object.values(result.refused);
      if (why.length) throw new Error(why.join(" "));
    },
    "files",
    "jobs",
    "parts",
  );
}

const ASK: Record<"move" | "tag" | "queue" | "bin", { title: string; text: string; done: string }> = {
  move: { title: "Move", text: "", done: "Move" },
  tag: { title: "Tag", text: "", done: "Tag" },
  queue: { title: "Queue", text: "One job each, for any machine that fits.", done: "Queue" },
  bin: { title: "Put in the bin", text: "They can be taken out again until the bin is emptied.", done: "Put in the bin" },
};

/** What can be done with the chosen files. */
export function BatchBar({ files, clear }: { files: LibraryFile[]; clear: () => void }) {
  const [asking, setAsking] = useState<"move" | "tag" | "queue" | "bin" | null>(null);
  const count = files.length === 1 ? files[0]!.name : `${files.length} files`;
  return (
    <div className="mb-3 flex min-h-9 flex-wrap items-center gap-2 rounded-md bg-sunk px-3 py-1" role="toolbar" aria-label="Chosen files">
      <strong className="mr-2">{files.length} chosen</strong>
      <Button needs="change_files" onClick={() => setAsking("move")}>Move…</Button>
      <Button needs="change_files" onClick={() => setAsking("tag")}>Tag…</Button>
      <Button needs="queue" onClick={() => setAsking("queue")}>Queue…</Button>
      <Button needs="change_files" kind="danger" onClick={() => setAsking("bin")}>
        Bin…
      </Button>
      <Button kind="quiet" className="ml-auto" onClick={clear}>
        Choose none
      </Button>
      {asking && <Ask what={asking} files={files} count={count} close={() => setAsking(null)} done={clear} />}
    </div>
  );
}

interface AskProps {
  what: "move" | "tag" | "queue" | "bin";
  files: LibraryFile[];
  count: string;
  close: () => void;
  done: () => void;
}

function Ask({ what, files, count, close, done }: AskProps) {
  const folders = useFolders().data ?? [];
  const [folder, setFolder] = useState(files[0]?.folder ?? "");
  const [tags, setTags] = useState("");
  const [copies, setCopies] = useState(1);
  const batch = useBatch();
  const words = ASK[what];
  return (
    <FormDialog
      title={`${words.title} ${count}?`}
      text={words.text || undefined}
      close={close}
      send={() => {
        const listed = tags.split(",").map((t) => t.trim()).filter(Boolean);
        batch.mutate(
          { files: files.map((f) => f.id), deed: what, folder, tags: listed, copies },
          { onSuccess: () => (close(), done()) },
        );
      }}
      asked={batch.isPending}
      error={batch.error}
      action={words.done}
      kind={what === "bin" ? "danger" : "strong"}
    >
      {what === "move" && (
        <Field label="Folder">
          <select className={inputLook} value={folder} onChange={(e) => setFolder(e.target.value)}>
            <option value="">the library itself</option>
            {folders.map((f) => (
              <option key={f.path}>{f.path}</option>
            ))}
          </select>
        </Field>
      )}
      {what === "tag" && (
        <Field label="Tags to put on" hint="With commas between.">
          <input autoFocus required className={inputLook} value={tags} onChange={(e) => setTags(e.target.value)} />
        </Field>
      )}
      {what === "queue" && (
        <Field label="Copies of each">
          <input
            autoFocus
            className={inputLook}
            type="number"
            min={1}
            max={10000}
            value={copies}
            onChange={(e) => setCopies(Number(e.target.value))}
          />
        </Field>
      )}
    </FormDialog>
  );
}
