import { useState } from "react";

import { api, type Backup, type Backups, CallFailed, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { duration, percent, size, when, width } from "../../ui/format";
import { Empty, Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { BackupPlaceDialog } from "./backup-place";
import { BackupRuleDialog, WEEKDAYS } from "./backup-rule";
import { useBackups } from "./queries";

const SHOWN = 6;

/** Where backups go and when, those there are, and whether they were tried. */
export function BackupsSetup() {
  const backups = useBackups();
  const [asks, ask] = useState<"place" | "rule" | null>(null);
  const take = useChange(() => value(api.POST("/api/backups")), "backups");
  const trial = useChange(() => value(api.POST("/api/backups/trial", { body: { stamp: "" } })), "backups");
  const found = backups.data;
  const busy = !!found?.work || take.isPending || trial.isPending;
  if (backups.error instanceof CallFailed && backups.error.status === 403) return null; // not everybody may see where they go
  return (
    <Sheet className="min-w-0">
      <span id="backups" />
      <SheetTitle
        beside={
          found?.settings.address && (
            <button type="button" className="text-ink underline" onClick={() => ask("place")}>
              Another place
            </button>
          )
        }
      >
        Backups
      </SheetTitle>
      {backups.error ? (
        <Failed error={backups.error} again={() => backups.refetch()} />
      ) : !found ? (
        <Loading rows={4} />
      ) : !found.settings.address ? (
        <Empty title="Nothing is backed up">
          A disk that dies takes all records with it.
          <div className="mt-4">
            <Button kind="strong" onClick={() => ask("place")}>
              Give a place for backups
            </Button>
          </div>
        </Empty>
      ) : (
        <>
          <Standing found={found} change={() => ask("rule")} />
          {found.work ? <Working work={found.work} /> : null}
          <List rows={found.backups} troubles={found.troubles} />
          <div className="flex flex-wrap items-center gap-2 px-5 pt-2 pb-4">
            <Button asked={take.isPending} disabled={busy} onClick={() => take.mutate(undefined)}>
              Back up now
            </Button>
            {found.settings.sealed_with === "passphrase" && (
              <Button asked={trial.isPending} disabled={busy || !found.backups.some((b) => b.stamp)} onClick={() => trial.mutate(undefined)}>
                Try the newest
              </Button>
            )}
            <Refusal error={take.error ?? trial.error} />
          </div>
        </>
      )}
      {asks === "place" && <BackupPlaceDialog close={() => ask(null)} />}
      {asks === "rule" && found && <BackupRuleDialog now={found.settings} zone={found.zone} close={() => ask(null)} />}
    </Sheet>
  );
}

function Standing({ found, change }: { found: Backups; change: () => void }) {
  const s = found.settings;
  return (
    <div className="px-5 pb-3">
      {found.troubles.map((trouble) => (
        <p key={trouble} role="alert" className="mt-0 mb-2 rounded-md bg-alarm-wash px-3 py-2 text-sm text-alarm">
          {trouble.charAt(0).toUpperCase() + trouble.slice(1)}
        </p>
      ))}
      <p className="m-0 truncate" title={s.address}>
        {s.address}
      </p>
      {found.same_disk && <p className="m-0 text-sm text-alarm">On the disk of what they are of: one that dies takes both.</p>}
      <p className="m-0 text-sm text-faded">
        Sealed {s.sealed_with === "passphrase" ? "with a passphrase" : "for a public key"}.{" "}
        {s.on ? `Each day at ${s.at?.slice(0, 5)}; ` : "Only when asked for; "}
        {s.daily} kept of days, {s.weekly} of weeks, {s.monthly} of months.{" "}
        {s.sealed_with === "passphrase" ? `Tried each ${WEEKDAYS[s.try_on ?? 6]}.` : "One can be tried with the private key only."}{" "}
        <button type="button" className="text-ink underline" onClick={change}>
          Change
        </button>
      </p>
    </div>
  );
}

function Working({ work }: { work: NonNullable<Backups["work"]> }) {
  return (
    <div className="px-5 pb-3" role="status">
      <span className="flex justify-between gap-4 text-sm">
        <span>
          {work.what === "backup" ? "A backup is taken" : "A backup is tried"}: {work.step}
        </span>
        {work.share != null && <span className="text-faded">{percent(work.share)}</span>}
      </span>
      <span aria-hidden className="mt-1 block h-1 rounded-full bg-sunk">
        <span className="block h-full rounded-full bg-faded" style={{ width: width(work.share ?? 0.02) }} />
      </span>
    </div>
  );
}

function List({ rows, troubles }: { rows: Backup[]; troubles: string[] }) {
  const now = new Date();
  const [all, setAll] = useState(false);
  if (!rows.length) return <p className="m-0 px-5 pb-2 text-faded">None was taken yet.</p>;
  return (
    <>
      <ul className="m-0 list-none divide-y divide-rule border-t border-rule p-0">
        {(all ? rows : rows.slice(0, SHOWN)).map((b) => (
          <li key={b.number} className="grid grid-cols-[1fr_auto] items-baseline gap-x-4 px-5 py-2">
            <span>{when(b.at, now)}</span>
            <span className="text-right text-faded">{b.stamp ? size(b.items_bytes + b.records_bytes) : ""}</span>
            <span className="min-w-0 text-sm text-faded">
              {b.problem ? (
                <span className="text-alarm">{troubles.some((t) => t.endsWith(b.problem!)) ? (b.stamp ? "see above" : "not taken") : b.problem}</span>
              ) : b.tried_at == null ? (
                "not tried yet"
              ) : b.faults ? (
                <span className="text-alarm">
                  tried: {b.faults} {b.faults === 1 ? "fault" : "faults"}
                </span>
              ) : (
                `tried ${when(b.tried_at, now)}; a restore takes ${duration(b.restore_s ?? 0)}`
              )}
            </span>
            <span className="text-right text-sm text-faded">{b.stamp ? `${size(b.sent_bytes)} new, in ${duration(b.took_s)}` : ""}</span>
          </li>
        ))}
      </ul>
      {rows.length > SHOWN && !all && (
        <button type="button" className="mx-5 mt-2 text-sm text-ink underline" onClick={() => setAll(true)}>
          All {rows.length}
        </button>
      )}
    </>
  );
}
