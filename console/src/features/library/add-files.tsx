import { useQuery } from "@tanstack/react-query";
import { ChevronLeft, Folder, FileText } from "lucide-react";
import { useRef, useState } from "react";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Choice } from "../../ui/choice";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { size, when } from "../../ui/format";
import { Failed, Loading } from "../../ui/page";
import type { Found } from "./dropped";
import { followsBody, type Follows, FollowsFields, ONLY_ADDED } from "./follows";

type Source = "here" | "address" | "drive";
const SOURCES: { key: Source; name: string }[] = [
  { key: "here", name: "This device" },
  { key: "address", name: "An address" },
  { key: "drive", name: "The shop's computer" },
];

/** Adds files: from this device, an address that the service fetches, or a drive of the service's computer; and says what
 *  follows. `staged` are files that were dropped already. */
export function AddFiles({ folder, staged, send, close }: { folder: string; staged: Found[]; send: (found: Found[], follows: Follows) => void; close: () => void }) {
  const [source, setSource] = useState<Source>("here");
  const [follows, setFollows] = useState(ONLY_ADDED);
  const [found, setFound] = useState(staged);
  const [address, setAddress] = useState("");
  const [picked, setPicked] = useState<ReadonlyMap<string, boolean>>(new Map());
  const input = useRef<HTMLInputElement>(null);
  const wish = () => ({ folder, ...followsBody(follows) });
  const fetch = useChange(() => value(api.POST("/api/drop-from-address", { body: { address: address.trim(), ...wish() } as never })).then(close), "files", "arrivals", "jobs");
  const take = useChange(async () => {
    const done = await value(api.POST("/api/drop-from-drive", { body: { paths: [...picked.keys()], ...wish() } as never }));
    const refused = Object.entries(done.refused);
    if (refused.length) throw new Error(refused.map(([path, why]) => `${path}: ${why}`).join(" "));
    close();
  }, "files", "arrivals", "jobs");
  const one = source === "here" ? found.length <= 1 : source === "address" || (picked.size <= 1 && ![...picked.values()].some(Boolean));
  const ready = source === "here" ? found.length > 0 : source === "address" ? address.trim() !== "" : picked.size > 0;
  const go = () => {
    if (!ready) return input.current?.click();
    if (source === "address") return fetch.mutate(undefined);
    if (source === "drive") return take.mutate(undefined);
    send(found, follows);
    close();
  };
  const chosen = one || follows.then !== "now" ? follows : ONLY_ADDED;
  const action = { add: "Add", queue: "Add and queue", now: `Add, and begin on ${follows.machine}` }[chosen.then];
  return (
    <FormDialog
      title="Add files"
      text={folder ? `They go to the folder ${folder}.` : "Sliced files: G-code, plain or packed. A changed file of a name that is there becomes its new revision."}
      close={close}
      send={go}
      asked={fetch.isPending || take.isPending}
      error={fetch.error ?? take.error}
      action={ready ? action : source === "here" ? "Choose files…" : action}
    >
      <Choice label="From where" options={SOURCES} value={source} choose={(key) => setSource(key as Source)} />
      {source === "here" && (
        <div className="flex flex-wrap items-center gap-3">
          <input
            ref={input}
            type="file"
            multiple
            aria-label="Files to add"
            className="sr-only"
            tabIndex={-1}
            onChange={(e) => {
              setFound([...found, ...[...(e.target.files ?? [])].map((file) => ({ file, folder }))]);
              e.target.value = "";
            }}
          />
          {found.length > 0 ? (
            <>
              <ul className="m-0 max-h-40 min-w-0 flex-1 list-none overflow-auto p-0 text-sm">
                {found.map(({ file }, n) => (
                  <li key={n} className="flex justify-between gap-3 py-0.5">
                    <span className="truncate">{file.name}</span>
                    <span className="shrink-0 text-faded">{size(file.size)}</span>
                  </li>
                ))}
              </ul>
              <Button onClick={() => input.current?.click()}>More…</Button>
            </>
          ) : (
            <p className="m-0 text-sm text-faded">Or drop files and folders anywhere on the library.</p>
          )}
        </div>
      )}
      {source === "address" && (
        <Field label="Address" hint="The service fetches it: http:// or https://, a file and no web page.">
          <input className={`${inputLook} font-mono text-sm`} type="url" autoFocus value={address} onChange={(e) => setAddress(e.target.value)} placeholder="https://files.shop.example/clip.gcode" required maxLength={2000} spellCheck={false} autoComplete="off" />
        </Field>
      )}
      {source === "drive" && <Drive picked={picked} pick={setPicked} />}
      <FollowsFields value={chosen} set={(change) => setFollows({ ...chosen, ...change })} one={one} />
    </FormDialog>
  );
}

/** Looks through the drives of the service's computer. */
function Drive({ picked, pick }: { picked: ReadonlyMap<string, boolean>; pick: (picked: ReadonlyMap<string, boolean>) => void }) {
  const now = useNow();
  const [path, setPath] = useState("");
  const drives = useQuery({ queryKey: ["drives"], queryFn: () => value(api.GET("/api/drives")) });
  const inside = useQuery({ enabled: path !== "", queryKey: ["drives", path], queryFn: () => value(api.GET("/api/drives/entries", { params: { query: { path } } })) });
  const turn = (entry: string, folder: boolean) => {
    const next = new Map(picked);
    if (!next.delete(entry)) next.set(entry, folder);
    pick(next);
  };
  const failed = drives.error ?? inside.error;
  if (failed) return <Failed error={failed} again={() => void (path ? inside.refetch() : drives.refetch())} />;
  if (path ? !inside.data : !drives.data) return <Loading rows={3} height="h-9" />;
  const row = "flex min-h-10 items-center gap-2.5 px-3 py-1";
  return (
    <div className="rounded-md border border-rule">
      <div className="flex min-h-10 items-center gap-2 border-b border-rule px-2 text-sm">
        {path ? (
          <>
            <Button kind="quiet" aria-label="Up" onClick={() => setPath(inside.data!.above)}>
              <ChevronLeft size={16} aria-hidden />
            </Button>
            <span className="min-w-0 truncate font-mono" title={path}>
              {path}
            </span>
          </>
        ) : (
          <span className="px-1 text-faded">Drives and folders that it may look into</span>
        )}
      </div>
      <ul className="m-0 max-h-64 list-none divide-y divide-rule overflow-auto p-0">
        {!path &&
          drives.data!.map((d) => (
            <li key={d.path} className={row}>
              <Folder size={16} aria-hidden className="shrink-0 text-faded" />
              <button type="button" className="min-w-0 flex-1 cursor-pointer truncate border-0 bg-transparent p-0 text-left text-ink hover:underline" onClick={() => setPath(d.path)}>
                {d.path}
              </button>
              <span className="shrink-0 text-sm text-faded">{size(d.free)} free</span>
            </li>
          ))}
        {path &&
          inside.data!.entries.map((e) => (
            <li key={e.path} className={row}>
              <input type="checkbox" aria-label={`Take ${e.name}`} checked={picked.has(e.path)} onChange={() => turn(e.path, e.folder)} />
              {e.folder ? <Folder size={16} aria-hidden className="shrink-0 text-faded" /> : <FileText size={16} aria-hidden className="shrink-0 text-faded" />}
              {e.folder ? (
                <button type="button" className="min-w-0 flex-1 cursor-pointer truncate border-0 bg-transparent p-0 text-left text-ink hover:underline" onClick={() => setPath(e.path)}>
                  {e.name}
                </button>
              ) : (
                <span className="min-w-0 flex-1 truncate">{e.name}</span>
              )}
              <span className="shrink-0 text-sm text-faded">{e.folder ? "" : `${size(e.size)} · ${when(e.changed_at, now)}`}</span>
            </li>
          ))}
        {!path && drives.data!.length === 0 && <li className="px-3 py-4 text-sm text-faded">No drive is plugged in. CHRONARCH_FOLDERS, a setting of the service, names folders that may be looked into.</li>}
        {path && inside.data!.entries.length === 0 && <li className="px-3 py-4 text-sm text-faded">There is no sliced file in it.</li>}
      </ul>
      <p className="m-0 border-t border-rule px-3 py-2 text-sm text-faded">
        {picked.size === 0 ? "Nothing is chosen." : `${picked.size} chosen${[...picked.values()].some(Boolean) ? "; folders with all that is in them" : ""}.`}
        {path && inside.data!.more > 0 && ` ${inside.data!.more} more are not listed.`}
      </p>
    </div>
  );
}
