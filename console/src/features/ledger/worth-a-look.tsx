import { useState } from "react";
import { Link } from "react-router";

import type { components } from "../../api/schema";
import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { inputLook } from "../../ui/dialog";
import { day, when } from "../../ui/format";
import { Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { useNow } from "../../api/live";
import { useChangePoints } from "./queries";

type ChangePoint = components["schemas"]["ChangePoint"];

/** What has changed beyond chance, with how sure that is and the builds behind it. */
export function WorthALook() {
  const found = useChangePoints();
  const now = useNow(60_000);
  const report = found.data;
  const look = useChange(() => value(api.POST("/api/report/change-points")), "change-points");
  return (
    <Sheet className="mb-5">
      <SheetTitle
        beside={
          <button type="button" className="text-faded underline disabled:no-underline" disabled={look.isPending} onClick={() => look.mutate(undefined)}>
            {look.isPending ? "looking…" : "look now"}
          </button>
        }
      >
        Worth a look
      </SheetTitle>
      {found.error ? (
        <Failed error={found.error} again={() => found.refetch()} />
      ) : !report ? (
        <Loading rows={2} />
      ) : (
        <div className="px-5 pb-4">
          {report.change_points.length > 0 && (
            <ul className="m-0 list-none p-0">
              {report.change_points.map((one) => (
                <Line key={one.id} finding={one} now={now} />
              ))}
            </ul>
          )}
          <p className="m-0 text-sm text-faded">
            {report.looked_at && report.looked_from
              ? `${report.change_points.length ? "" : "Nothing has changed beyond chance. "}Looked through ${when(report.looked_at, now)}: ${report.series} series since ${day(report.looked_from)}. Of what is named at most ${Math.round(report.rate * 100)} % is expected to be chance.`
              : "Nobody has looked yet; that is done each night."}
          </p>
          {look.error && <p className="mt-2 mb-0 text-sm text-alarm">{look.error.message}</p>}
        </div>
      )}
    </Sheet>
  );
}

function Line({ finding: f, now }: { finding: ChangePoint; now: Date }) {
  const [note, setNote] = useState<string | null>(null);
  const seen = useChange(() => value(api.POST("/api/report/change-points/{number}/seen", { params: { path: { number: f.id } }, body: { note: note ?? "" } })).then(() => setNote(null)), "change-points");
  return (
    <li className="mb-3 border-b border-rule pb-3">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-1">
        <span className={f.seen_at ? "" : "font-semibold"}>{f.text}</span>
        <span className="flex gap-4 text-sm">
          <Link to={`/records/builds?${new URLSearchParams(f.builds)}`}>the builds since</Link>
          {note === null && (
            <button type="button" className="text-faded underline" onClick={() => setNote(f.note)}>
              {f.seen_at ? "change the note" : "seen"}
            </button>
          )}
        </span>
      </div>
      <p className="m-0 text-sm text-faded">
        since {when(f.since, now)} · by {amount(f, f.size)}, 19 times in 20 between {amount(f, f.low)} and {amount(f, f.high)} · {f.counted_before} {counted(f)} before, {f.counted_after} since · chance alone: 1 in {Math.round(1 / f.chance).toLocaleString("en-GB")}
      </p>
      {f.seen_at && note === null && (
        <p className="m-0 text-sm">
          Seen by {f.seen_by}
          {f.note && `: ${f.note}`}
        </p>
      )}
      {note !== null && (
        <form
          className="mt-2 flex flex-wrap gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            seen.mutate(undefined);
          }}
        >
          <input aria-label="What it is" placeholder="What it is, for example: the belt is worn" maxLength={300} autoFocus className={`${inputLook} w-full sm:w-96`} value={note} onChange={(e) => setNote(e.target.value)} />
          <Button type="submit" disabled={seen.isPending}>
            Seen
          </Button>
          <Button kind="quiet" onClick={() => setNote(null)}>
            Not yet
          </Button>
          {seen.error && <span className="text-sm text-alarm">{seen.error.message}</span>}
        </form>
      )}
    </li>
  );
}

const DAILY = ["turnaround", "pace"];
const counted = (f: ChangePoint) => (DAILY.includes(f.kind) ? "days" : "builds");

/** A change as people say it: of shares in points, else in percent. */
const amount = (f: ChangePoint, size: number) => `${size >= 0 ? "+" : "−"}${Math.abs(size * 100).toFixed(0)} ${f.unit === "share" ? "points" : "%"}`;
