import { useState } from "react";
import { Link } from "react-router";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import type { components } from "../../api/schema";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { size, when, width } from "../../ui/format";
import { Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { useMay } from "../../api/may";
import { useStorage } from "./queries";
import { fullIn } from "./storage-words";

type Shown = components["schemas"]["StorageShown"];
type Share = components["schemas"]["StorageShare"];
type Part = Share["part"];

/** What each part is, in words. */
const MEANS: Record<Part, { name: string; what: string }> = {
  files: { name: "Files of the library", what: "their newest revisions" },
  revisions: { name: "Earlier revisions", what: "of files that are in the library" },
  bin: { name: "The bin", what: "files that were thrown away" },
  builds: { name: "What was built", what: "and is in the library no more; reference models, photos" },
  logs: { name: "Line logs", what: "every line of each build, both ways" },
  derived: { name: "Drawings", what: "made from files, and made again when they are wanted" },
  frames: { name: "Camera frames", what: "thinned out by themselves within their budget" },
  films: { name: "Films", what: "the oldest go first within their budget" },
  readings: { name: "Heat and power", what: "by the second for a week, then by minute and hour" },
  records: { name: "Records", what: "orders, builds, the ledger, notices" },
  backups: { name: "Backups on this disk", what: "by their own rule; one that dies takes both" },
};
const DAY_MS = 86_400_000;

/** What takes the disk, how it grows, when it will be full, and what can go. */
export function StoragePage() {
  const storage = useStorage();
  return (
    <Page title="Storage" beside={<Link to="/setup">Set-up</Link>}>
      {storage.error ? (
        <Sheet>
          <Failed error={storage.error} again={() => storage.refetch()} />
        </Sheet>
      ) : !storage.data ? (
        <Sheet>
          <Loading rows={8} />
        </Sheet>
      ) : (
        <div className="flex flex-col gap-5">
          <Disk of={storage.data} />
          <Parts of={storage.data} />
        </div>
      )}
    </Page>
  );
}

function Disk({ of }: { of: Shown }) {
  const now = useNow();
  const ours = of.parts.reduce((sum, one) => sum + one.size, 0);
  const soon = !!of.full_at && new Date(of.full_at).getTime() - now.getTime() < 30 * DAY_MS;
  const pieces = [
    { name: "Chronarch", size: ours, look: "bg-ink" },
    { name: "other things", size: of.other, look: "bg-faded/60" },
    { name: "free", size: of.free, look: "bg-sunk" },
  ];
  return (
    <Sheet className="px-5 py-4">
      <p className={`m-0 text-lg font-medium ${soon ? "text-alarm" : ""}`}>
        {size(of.free)} of {size(of.size)} are free. {fullIn(of, now)}
      </p>
      <div className="my-3 flex h-3 overflow-hidden rounded-full bg-sunk" aria-hidden>
        {pieces.slice(0, 2).map((p) => (
          <span key={p.name} className={`${p.look} h-full`} style={{ width: width(p.size / of.size) }} />
        ))}
      </div>
      <p className="m-0 flex flex-wrap gap-x-5 gap-y-1 text-sm text-faded">
        {pieces.map((p) => (
          <span key={p.name} className="inline-flex items-center gap-1.5">
            <span className={`inline-block size-2.5 rounded-sm border border-rule ${p.look}`} aria-hidden /> {p.name} {size(p.size)}
          </span>
        ))}
        {of.a_day != null && <span>grows by {size(Math.max(0, of.a_day))} a day</span>}
        {of.measured_at && <span>measured {when(of.measured_at, now)}</span>}
      </p>
    </Sheet>
  );
}

function Parts({ of }: { of: Shown }) {
  const may = useMay()("set_up") === null;
  const [giving, setGiving] = useState<Share | null>(null);
  const rows = of.parts.filter((one) => one.size > 0 || one.budget != null || one.part === "files");
  const largest = Math.max(1, ...rows.map((one) => one.size));
  const sorted = [...rows].sort((a, b) => b.size - a.size);
  return (
    <Sheet className="min-w-0">
      <SheetTitle>What takes it</SheetTitle>
      <ul className="m-0 list-none divide-y divide-rule p-0">
        {sorted.map((one) => (
          <li key={one.part} className="grid grid-cols-[1fr_auto] items-center gap-x-4 gap-y-1 px-5 py-2.5 md:grid-cols-[minmax(14rem,1fr)_14rem_8rem_9rem_7rem]">
            <span className="min-w-0">
              {MEANS[one.part].name}
              <span className="block text-sm text-faded">{MEANS[one.part].what}</span>
            </span>
            <span aria-hidden className="order-last col-span-2 block h-1.5 rounded-full bg-sunk md:order-none md:col-span-1">
              <span className="block h-full rounded-full bg-faded" style={{ width: width(one.size / largest) }} />
            </span>
            <span className="text-right font-medium tabular-nums">{size(one.size)}</span>
            <span className="text-sm text-faded tabular-nums md:text-right">
              {one.budget != null ? `of ${size(one.budget)} at most` : one.a_day != null && one.a_day >= 1 ? `+${size(one.a_day)} a day` : ""}
            </span>
            <span className="text-right">
              {may && one.can_go && one.size > 0 && (
                <Button kind="quiet" onClick={() => setGiving(one)}>
                  Give up…
                </Button>
              )}
            </span>
          </li>
        ))}
      </ul>
      <p className="m-0 border-t border-rule px-5 py-3 text-sm text-faded">
        Budgets of frames and films are set in <Link to="/setup#cameras">Set-up</Link>; contents that several files share are counted once.
      </p>
      {giving && <GiveUp share={giving} close={() => setGiving(null)} />}
    </Sheet>
  );
}

function GiveUp({ share, close }: { share: Share; close: () => void }) {
  const [days, setDays] = useState(share.part === "bin" ? "0" : "90");
  const [told, setTold] = useState("");
  const go = useChange(
    async () => {
      let items = 0;
      for (;;) {
        const done = await value(api.POST("/api/storage/give-up", { body: { what: share.part, older_than_days: Number(days) } }));
        items += done.items;
        if (!done.more) {
          if (items === 0) return setTold(done.text);
          return close();
        }
      }
    },
    "storage",
    "files",
  );
  const says: Partial<Record<Part, string>> = {
    bin: "Files in the bin go for good. What was built from them stays in the records.",
    revisions: "Earlier revisions that nothing was built from, and that no job stays with, go for good.",
    logs: "The lines of builds go for good; their records, costs and frames stay.",
  };
  return (
    <FormDialog title={`Give up ${MEANS[share.part].name.toLowerCase()}`} text={says[share.part] ?? ""} close={close} send={() => go.mutate(undefined)} asked={go.isPending} error={go.error} action="Give them up" kind="danger">
      <Field label={share.part === "bin" ? "In the bin for longer than, days" : "Older than, days"}>
        <input className={inputLook} type="number" min={0} max={36500} value={days} onChange={(e) => setDays(e.target.value)} required />
      </Field>
      {told && (
        <p role="status" className="m-0">
          {told}
        </p>
      )}
    </FormDialog>
  );
}
