import { Download, X } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import { askedOf, NAMED, wordOf } from "./history-address";
import { RecordsLinks } from "./records-links";
import { SavedViews } from "./saved-views";
import { api, type Build, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { useRows } from "../../api/pages";
import { useAddress } from "../../ui/address";
import { Button } from "../../ui/button";
import { duration, when } from "../../ui/format";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Page, Refusal, Sheet } from "../../ui/page";
import { Pick } from "../../ui/pick";
import { SearchField } from "../../ui/search-field";
import { TimeField } from "../../ui/time-field";
import { useMachines } from "../machines/queries";

const SORTS = [
  { key: "", name: "newest first" },
  { key: "oldest", name: "oldest first" },
  { key: "longest", name: "longest first" },
  { key: "shortest", name: "shortest first" },
  { key: "heaviest", name: "heaviest first" },
];
const VERDICTS = [
  { key: "", name: "any verdict" },
  { key: "good", name: "good" },
  { key: "scrap", name: "scrap" },
  { key: "none", name: "not judged" },
];
const OUTCOMES = [
  { key: "", name: "any end" },
  { key: "completed", name: "completed" },
  { key: "stopped", name: "stopped" },
  { key: "failed", name: "failed" },
];
const PERIODS = [
  { key: "", name: "any time" },
  { key: "1", name: "last day" },
  { key: "7", name: "last 7 days" },
  { key: "30", name: "last 30 days" },
  { key: "365", name: "last year" },
  { key: "dates", name: "from … to …" },
];
const FORMS = [
  { format: "csv", name: "CSV" },
  { format: "jsonl", name: "JSON Lines" },
  { format: "parquet", name: "Parquet" },
];

/** Builds of all time. What is looked for is in the page's address, so that a view is passed on by its link. */
export function HistoryPage() {
  const [get, change] = useAddress();
  const now = useNow(10_000);
  const asked = askedOf(get);
  const found = useRows(["builds", "history", asked], (after) => api.GET("/api/builds", { params: { query: { ...(asked as object), after } } }));
  const machines = (useMachines().data ?? []).map((m) => m.name).sort();
  const named = Object.keys(NAMED).filter((name) => get(name));
  const narrowed = Object.keys(asked).some((name) => name !== "sort");
  const [chosen, choose] = useState<number[]>([]);
  const list = found.data ?? [];
  const file = (format: string) => `/api/builds/export?${new URLSearchParams({ ...asked, format })}`;
  const [dating, date] = useState(false);
  const dates = dating || get("begin") !== "" || get("end") !== "";
  const periods = PERIODS.some((p) => p.key === get("days")) ? PERIODS : [{ key: get("days"), name: `last ${get("days")} days` }, ...PERIODS];
  const choosePeriod = (key: string) => {
    date(key === "dates");
    change(key === "dates" ? { days: "" } : { days: key, begin: "", end: "" });
  };
  const time = "min-h-9 w-full rounded-md border border-rule bg-sheet px-2 text-sm text-ink sm:w-44";
  return (
    <Page
      title="Builds"
      beside={
        <RecordsLinks here="/records/builds" />
      }
    >
      <SavedViews get={get} change={change} />
      <div className="mb-3 flex flex-wrap items-center gap-2">
        <SearchField label="Search builds" hint="File, part, note, reason, tag…" words={get("search")} change={(w) => change({ search: w })} className="min-w-60" />
        <Pick label="Machine" value={get("machine")} choose={(m) => change({ machine: m })} options={[{ key: "", name: "all machines" }, ...machines.map((m) => ({ key: m, name: m }))]} />
        <Pick label="Verdict" value={get("verdict")} choose={(v) => change({ verdict: v })} options={VERDICTS} />
        <Pick label="How it ended" value={get("outcome")} choose={(o) => change({ outcome: o })} options={OUTCOMES} />
        <Pick label="Order of the list" value={get("sort")} choose={(s) => change({ sort: s })} options={SORTS} />
        <Pick label="Period" value={dates ? "dates" : get("days")} choose={choosePeriod} options={periods} />
        {dates && (
          <span className="flex w-full items-baseline gap-2 text-sm sm:w-auto">
            <TimeField label="Began from" className={time} value={get("begin")} change={(begin) => change({ begin })} />
            <span className="text-faded">to</span>
            <TimeField label="Began before" className={time} value={get("end")} change={(end) => change({ end })} />
          </span>
        )}
      </div>
      {named.length > 0 && (
        <ul className="m-0 mb-3 flex list-none flex-wrap gap-2 p-0">
          {named.map((name) => (
            <li key={name}>
              <button type="button" className="flex min-h-8 items-center gap-1.5 rounded-md bg-sunk px-2.5 text-sm" onClick={() => change({ [name]: "" })}>
                <span className="text-faded">{NAMED[name]}</span> {wordOf(name, get(name))} <X size={14} aria-label="take away" />
              </button>
            </li>
          ))}
        </ul>
      )}
      {chosen.length > 0 && <Chosen numbers={chosen} done={() => choose([])} />}
      <Sheet>
        {found.error ? (
          <Failed error={found.error} again={() => found.refetch()} />
        ) : found.isPending ? (
          <Loading rows={10} />
        ) : list.length === 0 ? (
          <Empty title={narrowed ? "No build is like that" : "No build yet"}>{narrowed ? "Take something away." : "What machines make is kept here for good."}</Empty>
        ) : (
          <>
            <div className="overflow-x-auto">
              <table className="w-full border-collapse text-sm">
                <thead className="text-faded max-sm:sr-only">
                  <tr className="border-b border-rule">
                    <th className={`${cell} w-8`}>
                      <span className="sr-only">Chosen</span>
                    </th>
                    {["Build", "Began", "Machine", "File", "Made with"].map((name) => (
                      <th key={name} className={`${cell} text-left font-medium`}>
                        {name}
                      </th>
                    ))}
                    {["Took", "Laid"].map((name) => (
                      <th key={name} className={`${cell} text-right font-medium`}>
                        {name}
                      </th>
                    ))}
                    <th className={`${cell} text-left font-medium`}>Came to</th>
                  </tr>
                </thead>
                <tbody>
                  {list.map((b) => (
                    <Row key={b.id} build={b} now={now} chosen={chosen.includes(b.id)} choose={(on) => choose(on ? [...chosen, b.id] : chosen.filter((n) => n !== b.id))} look={change} />
                  ))}
                </tbody>
              </table>
            </div>
            <More of={found} />
          </>
        )}
      </Sheet>
      <p className="mt-3 flex flex-wrap gap-4 text-sm text-faded">
        <span>All that fit, as a file:</span>
        {FORMS.map((f) => (
          <a key={f.format} href={file(f.format)} download className="inline-flex items-center gap-1.5 text-ink">
            <Download size={14} aria-hidden /> {f.name}
          </a>
        ))}
      </p>
    </Page>
  );
}

const cell = "px-3 py-2.5 first:pl-5 last:pr-5 whitespace-nowrap max-sm:p-0!";
/** On a phone a row is three lines: what and what became of it; the file; when, of what, how long. */
const narrow = "max-sm:grid max-sm:grid-cols-[1.75rem_auto_auto_1fr] max-sm:gap-x-3 max-sm:gap-y-1 max-sm:px-4 max-sm:py-3";

interface RowProps {
  build: Build;
  now: Date;
  chosen: boolean;
  choose: (on: boolean) => void;
  look: (wish: Record<string, string>) => void;
}

function Row({ build: b, now, chosen, choose, look }: RowProps) {
  const used = [...new Set((b.uses ?? []).map((u) => `${u.colour} ${u.material}`.trim()))].join(", ");
  return (
    <tr className={`border-b border-rule align-baseline last:border-0 ${narrow}`}>
      <td className={cell}>
        <input type="checkbox" aria-label={`Choose build ${b.id}`} checked={chosen} onChange={(e) => choose(e.target.checked)} />
      </td>
      <td className={cell}>
        <Link to={`/builds/${b.id}`}>{b.id}</Link>
      </td>
      <td className={`${cell} max-sm:col-start-2 max-sm:row-start-3`}>{b.started_at ? when(b.started_at, now) : "–"}</td>
      <td className={cell}>
        <Link to={`/machines/${b.machine}`} className="text-inherit no-underline hover:underline">
          {b.machine}
        </Link>
      </td>
      <td className="max-w-80 px-3 py-2.5 max-sm:col-span-3 max-sm:col-start-2 max-sm:row-start-2 max-sm:p-0">
        <Link to={`/library/files/${b.file_id}?revision=${b.revision}`} className="break-all text-inherit no-underline hover:underline">
          {b.file}
        </Link>
        {(b.note || (b.tags ?? []).length > 0) && (
          <span className="block text-faded">
            {b.note}{" "}
            {(b.tags ?? []).map((t) => (
              <button key={t} type="button" className="mr-1.5 text-faded underline" onClick={() => look({ tag: t })}>
                #{t}
              </button>
            ))}
          </span>
        )}
      </td>
      <td className={`${cell} max-sm:col-start-3 max-sm:row-start-3`}>{used || "–"}</td>
      <td className={`${cell} text-right max-sm:col-start-4 max-sm:row-start-3`}>{b.took_s == null ? "–" : duration(b.took_s)}</td>
      <td className={`${cell} text-right max-sm:hidden`}>{b.outcome ? `${b.grams.toFixed(1)} g` : "–"}</td>
      <td className={`${cell} max-sm:col-start-4 max-sm:row-start-1 max-sm:text-right max-sm:whitespace-normal`}>
        {b.verdict === "scrap" ? (
          <span className="text-alarm">scrap{b.scrap_reason ? `: ${b.scrap_reason}` : ""}</span>
        ) : (
          (b.verdict ?? b.outcome ?? b.state)
        )}
      </td>
    </tr>
  );
}

/** What can be done with the builds that are chosen. */
function Chosen({ numbers, done }: { numbers: number[]; done: () => void }) {
  const [said, setSaid] = useState("");
  const again = useChange(
    () =>
      value(api.POST("/api/builds/again", { body: { builds: numbers, copies: 1 } })).then((jobs) => {
        setSaid(`Queued as ${jobs.length === 1 ? "job" : "jobs"} ${jobs.map((j) => j.id).join(", ")}.`);
      }),
    "jobs",
  );
  return (
    <div className="mb-3 flex flex-wrap items-center gap-3 rounded-md bg-sunk px-4 py-2 text-sm" role="status">
      <span>
        {numbers.length} chosen. {said}
      </span>
      {!said && (
        <Button kind="strong" asked={again.isPending} onClick={() => again.mutate(undefined)}>
          Make {numbers.length === 1 ? "it" : "them"} again
        </Button>
      )}
      <Button kind="quiet" onClick={done}>
        {said ? "Done" : "Choose none"}
      </Button>
      <Refusal error={again.error} />
    </div>
  );
}
