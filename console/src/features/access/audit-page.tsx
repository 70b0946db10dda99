import { useMutation } from "@tanstack/react-query";
import { ChevronDown } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { Link, useSearchParams } from "react-router";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { useMay } from "../../api/may";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { SearchField } from "../../ui/search-field";
import { type AuditEntry, useAudit, useAuditSettings, usePeople } from "./queries";

const narrow = `${inputLook} sm:w-auto`;
const DAY_MS = 86_400_000;
const SPANS = { "1": "since yesterday", "7": "7 days", "30": "30 days", "": "all that is kept" };
const PARTS = ["the plan", "the watch", "part release", "power", "upkeep", "hot folders", "backups", "this computer", "the audit"];
const KEPT = [
  [30, "30 days"],
  [366, "a year"],
  [1096, "3 years"],
  [3653, "10 years"],
  [0, "for ever"],
] as const;

/** Who did what to what, from where, when, and what it was before. */
export function AuditPage() {
  const why = useMay()("manage_people");
  return (
    <Page title="Audit" beside={<Link to="/setup" className="text-ink">Set-up</Link>}>
      {why ? (
        <Sheet>
          <Empty title="Not yours to read">{why}</Empty>
        </Sheet>
      ) : (
        <div className="grid gap-5 lg:grid-cols-[minmax(0,1fr)_20rem] lg:items-start">
          <Entries />
          <div className="flex flex-col gap-5">
            <Whole />
            <Kept />
          </div>
        </div>
      )}
    </Page>
  );
}

function Entries() {
  const [address, setAddress] = useSearchParams();
  const [wish, setWish] = useState({ text: address.get("text") ?? "", who: address.get("who") ?? "", days: address.get("days") ?? "", refused: address.has("refused") });
  const set = (change: Partial<typeof wish>) => {
    const next = { ...wish, ...change };
    setWish(next);
    const said = { text: next.text.trim(), who: next.who, days: next.days, refused: next.refused ? "1" : "" };
    setAddress(Object.fromEntries(Object.entries(said).filter(([, v]) => v)), { replace: true });
  };
  const { who, days, refused } = wish;
  const text = useDeferredValue(wish.text.trim());
  const now = useNow(60_000);
  const since = days ? new Date(Math.floor(now.getTime() / 60_000) * 60_000 - Number(days) * DAY_MS).toISOString() : undefined;
  const asked = { who: who || undefined, text: text || undefined, refused: refused || undefined };
  const found = useAudit(asked, days, since);
  const people = usePeople().data ?? [];
  const csv = new URLSearchParams(Object.entries({ ...asked, since }).flatMap(([k, v]) => (v === undefined ? [] : [[k, String(v)]])));
  return (
    <Sheet className="min-w-0">
      <div className="flex flex-wrap items-center gap-3 px-5 pt-4 pb-3">
        <SearchField label="Search" hint="what, to what, a value" words={wish.text} change={(to) => set({ text: to })} className="min-w-52 flex-1" />
        <select aria-label="Who" className={narrow} value={who} onChange={(e) => set({ who: e.target.value })}>
          <option value="">everybody</option>
          <optgroup label="People">
            {people.map((p) => (
              <option key={p.login} value={p.login}>
                {p.name}
              </option>
            ))}
          </optgroup>
          <optgroup label="Parts of the service">
            {PARTS.map((one) => (
              <option key={one}>{one}</option>
            ))}
          </optgroup>
        </select>
        <select aria-label="Since" className={narrow} value={days} onChange={(e) => set({ days: e.target.value })}>
          {Object.entries(SPANS).map(([of, name]) => (
            <option key={of} value={of}>
              {name}
            </option>
          ))}
        </select>
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" className="size-4 accent-ink" checked={refused} onChange={(e) => set({ refused: e.target.checked })} />
          only what was refused
        </label>
        <a className="ml-auto text-sm text-ink" href={`/api/audit.csv?${csv}`} download="audit.csv">
          As CSV
        </a>
      </div>
      {found.error ? (
        <Failed error={found.error} again={() => found.refetch()} />
      ) : !found.data ? (
        <Loading rows={10} height="h-12" />
      ) : found.data.length === 0 ? (
        <Empty title="Nothing like that">Nothing that was done fits. Ask for less, or for a longer time.</Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule border-t border-rule p-0">
          {found.data.map((one, n) => (
            <Entry key={one.number ?? `new ${n}`} entry={one} now={now} />
          ))}
        </ul>
      )}
      {found.hasNextPage && (
        <p className="m-0 border-t border-rule px-5 py-4">
          <Button asked={found.isFetchingNextPage} onClick={() => found.fetchNextPage()}>
            Older ones
          </Button>
        </p>
      )}
    </Sheet>
  );
}

function Entry({ entry: e, now }: { entry: AuditEntry; now: Date }) {
  const [open, setOpen] = useState(false);
  const more = e.rows.length > 0 || Boolean(e.asked);
  const from = [e.device, e.address].filter(Boolean).join(", ");
  return (
    <li className="px-5 py-2.5">
      <div className="grid gap-x-4 sm:grid-cols-[8.5rem_11rem_minmax(0,1fr)]">
        <span className="text-sm text-faded tabular-nums" title={`Entry ${e.number ?? "not sealed yet"}, ${new Date(e.at).toISOString()}`}>
          {when(e.at, now)}
        </span>
        <span className="min-w-0">
          <span className="block truncate font-semibold">{e.name}</span>
          {from && (
            <span className="block truncate text-xs text-faded" title={from}>
              {from}
            </span>
          )}
        </span>
        <span className="min-w-0">
          {e.refused > 0 && <span className="mr-2 rounded bg-alarm-wash px-1.5 py-0.5 text-sm text-alarm">refused</span>}
          <span title={e.act}>{e.text}</span>
          {e.subject.includes("/") && <span className="ml-2 font-mono text-sm wrap-anywhere text-faded">{e.subject}</span>}
          {more ? (
            <button type="button" className="ml-2 inline-flex items-center gap-1 text-sm text-faded hover:text-ink" aria-expanded={open} onClick={() => setOpen(!open)}>
              {open ? "less" : brief(e)}
              <ChevronDown size={14} aria-hidden className={open ? "rotate-180" : ""} />
            </button>
          ) : (
            e.taken_out && <span className="ml-2 text-sm text-faded">taken out: who it tells of has left</span>
          )}
          {open && <Details entry={e} />}
        </span>
      </div>
    </li>
  );
}

/** What has changed, in a few words. */
function brief(e: AuditEntry): string {
  if (e.asked) return e.asked;
  const [first] = e.rows;
  if (e.rows.length === 1 && first) {
    const names = Object.keys(first.after);
    if (!names.length) return `${words(first.row)} is gone`;
    if (!Object.keys(first.before).length) return `${words(first.row)} is new`;
    if (names.length === 1) return `${words(names[0]!)}: ${shown(first.before[names[0]!])} → ${shown(first.after[names[0]!])}`;
  }
  const many = e.rows.length + e.more;
  return many === 1 ? `${words(first!.row)} changed` : `${many} rows`;
}

const words = (name: string) => name.replaceAll("_", " ");

function shown(of: unknown): string {
  if (of === null || of === undefined || of === "") return "nothing";
  if (Array.isArray(of)) return of.length ? of.map(shown).join("; ") : "none";
  if (typeof of === "object")
    return Object.entries(of)
      .map(([name, one]) => `${words(name)} ${shown(one)}`)
      .join(", ");
  return String(of);
}

function Details({ entry: e }: { entry: AuditEntry }) {
  return (
    <div className="mt-2 mb-1 flex flex-col gap-3">
      {e.asked && <p className="m-0 text-sm">Asked for: {e.asked}</p>}
      {e.rows.map((row, n) => {
        const names = [...new Set([...Object.keys(row.before), ...Object.keys(row.after)])];
        const fresh = !Object.keys(row.before).length;
        const gone = !Object.keys(row.after).length;
        return (
          <table key={n} className="w-full table-fixed border-collapse text-sm">
            <caption className="pb-1 text-left text-faded">
              {words(row.row)}
              {fresh ? ", new" : gone ? ", removed" : ""}
            </caption>
            <thead className={fresh || gone ? "sr-only" : "text-left text-xs text-faded"}>
              <tr>
                <th scope="col" className="w-32 font-normal">
                  What
                </th>
                {!fresh && (
                  <th scope="col" className="font-normal">
                    Before
                  </th>
                )}
                {!gone && (
                  <th scope="col" className="font-normal">
                    After
                  </th>
                )}
              </tr>
            </thead>
            <tbody>
              {names.map((name) => (
                <tr key={name} className="border-t border-rule align-top">
                  <th scope="row" className="py-1 pr-3 text-left font-normal text-faded">
                    {words(name)}
                  </th>
                  {!fresh && <td className="py-1 pr-3 wrap-anywhere">{shown(row.before[name])}</td>}
                  {!gone && <td className="py-1 wrap-anywhere">{shown(row.after[name])}</td>}
                </tr>
              ))}
            </tbody>
          </table>
        );
      })}
      {e.more > 0 && <p className="m-0 text-sm text-faded">and {e.more} rows more</p>}
    </div>
  );
}

/** Whether an entry is missing or was changed. */
function Whole() {
  const check = useMutation({ mutationFn: () => value(api.POST("/api/audit/verify", { body: { seal: "" } })) });
  const found = check.data;
  return (
    <Sheet>
      <SheetTitle>Is it whole?</SheetTitle>
      <div className="flex flex-col gap-3 px-5 pb-4 text-sm">
        <p className="m-0 text-faded">Each entry carries the seal of the one before. Checking finds any that is missing or was changed.</p>
        {found && (
          <div role="status" className="flex flex-col gap-2">
            {found.found === 0 ? (
              <p className="m-0 text-base font-semibold text-good">
                Whole: {found.entries.toLocaleString()} {found.entries === 1 ? "entry" : "entries"}
              </p>
            ) : (
              <ul className="m-0 list-disc pl-5 text-alarm">
                {found.faults.map((fault) => (
                  <li key={fault}>{fault}</li>
                ))}
                {found.found > found.faults.length && <li>and {found.found - found.faults.length} more</li>}
              </ul>
            )}
            {found.taken_out > 0 && <p className="m-0 text-faded">Of {found.taken_out} something was taken out, because somebody has left. Their seals hold.</p>}
            {found.last > 0 && (
              <p className="m-0 text-faded">
                Note this down, and a later check by <code>chronarch audit verify --noted</code> shows that nothing was cut off:{" "}
                <code className="break-all text-ink">
                  {found.last}:{found.seal}
                </code>
              </p>
            )}
          </div>
        )}
        <Refusal error={check.error} />
        <div>
          <Button asked={check.isPending} onClick={() => check.mutate()}>
            {found ? "Check again" : "Check"}
          </Button>
        </div>
      </div>
    </Sheet>
  );
}

/** How long entries are kept. */
function Kept() {
  const [open, setOpen] = useState(false);
  const days = useAuditSettings().data?.kept_days;
  return (
    <Sheet>
      <SheetTitle>How long it is kept</SheetTitle>
      <div className="flex flex-col gap-3 px-5 pb-4 text-sm">
        <p className="m-0 text-base">{days === undefined ? " " : days === 0 ? "For ever" : (KEPT.find(([of]) => of === days)?.[1] ?? `${days} days`)}</p>
        <p className="m-0 text-faded">What tells of somebody who leaves is taken out at once; that something was done stays.</p>
        <div>
          <Button disabled={days === undefined} onClick={() => setOpen(true)}>
            Change
          </Button>
        </div>
      </div>
      {open && days !== undefined && <KeptDialog days={days} close={() => setOpen(false)} />}
    </Sheet>
  );
}

function KeptDialog({ days, close }: { days: number; close: () => void }) {
  const [to, setTo] = useState(days);
  const set = useChange(async () => {
    await value(api.PUT("/api/audit-settings", { body: { kept_days: to } }));
    close();
  }, "audit");
  const shorter = to > 0 && (days === 0 || to < days);
  return (
    <FormDialog
      title="How long the audit is kept"
      close={close}
      send={() => set.mutate(undefined)}
      asked={set.isPending}
      error={set.error}
      action="Keep it so"
      kind={shorter ? "danger" : "strong"}
    >
      <Field label="Kept for" hint={shorter ? "What is older goes at once, and cannot be had back." : "30 days at least."}>
        <select className={inputLook} value={to} onChange={(e) => setTo(Number(e.target.value))}>
          {!KEPT.some(([of]) => of === days) && <option value={days}>{days} days</option>}
          {KEPT.map(([of, name]) => (
            <option key={of} value={of}>
              {name}
            </option>
          ))}
        </select>
      </Field>
    </FormDialog>
  );
}
