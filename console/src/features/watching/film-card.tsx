import { Lock } from "lucide-react";
import { Link } from "react-router";

import type { Film } from "../../api/client";
import { useNow } from "../../api/live";
import { percent, when, width } from "../../ui/format";

/** A film among many: its last picture, what it is of, and how it ended; or how far it is made. */
export function FilmCard({ film: f }: { film: Film }) {
  const now = useNow(30_000);
  const bad = f.outcome === "failed" || f.outcome === "stopped" || f.verdict === "scrap";
  const ended = f.verdict === "scrap" ? "scrap" : f.outcome === "completed" ? (f.verdict ?? "completed") : (f.outcome ?? "is building");
  return (
    <Link
      to={`/library/films/${f.number}`}
      className="flex min-w-0 flex-col overflow-hidden rounded-lg border border-rule bg-sheet text-ink no-underline hover:border-faded"
    >
      <span className="relative block aspect-[4/3] bg-sunk">
        {f.state === "done" ? (
          <>
            <img src={`/api/films/${f.number}/picture`} alt="" loading="lazy" className="absolute inset-0 h-full w-full object-cover" />
            <span className="absolute right-2 bottom-2 rounded bg-black/70 px-1.5 py-0.5 text-sm text-white">{f.seconds.toFixed(1)} s</span>
            {f.kept && (
              <span className="absolute top-2 right-2 rounded bg-black/70 p-1 text-white" title="It stays when room is needed">
                <Lock size={14} aria-label="kept" />
              </span>
            )}
          </>
        ) : (
          <FilmWaits film={f} />
        )}
      </span>
      <span className="block px-3.5 py-2.5">
        <span className="flex items-baseline justify-between gap-3">
          <span className="min-w-0 truncate font-semibold">{f.part || f.file}</span>
          <span className={`text-sm whitespace-nowrap ${bad ? "text-alarm" : "text-faded"}`}>{ended}</span>
        </span>
        <span className="flex items-baseline justify-between gap-3 text-sm text-faded">
          <span className="min-w-0 truncate">
            {f.machine}, build {f.build}
          </span>
          {f.ended_at && <span className="whitespace-nowrap">{when(f.ended_at, now)}</span>}
        </span>
      </span>
    </Link>
  );
}

/** What stands where the picture will be. */
export function FilmWaits({ film: f }: { film: Film }) {
  const says = {
    taking: "It is made once its build has ended.",
    waiting: f.problem || "It is made next.",
    making: `It is being made, ${percent(f.progress ?? 0)}`,
    failed: `It could not be made: ${f.problem}.`,
    done: "",
  }[f.state];
  return (
    <span className="absolute inset-0 flex flex-col items-center justify-center gap-3 px-5 text-center text-sm text-faded">
      <span className={f.state === "failed" || f.problem ? "text-alarm" : ""}>{says}</span>
      {f.state === "making" && (
        <span className="block h-1 w-3/5 rounded-full bg-rule">
          <span className="block h-full rounded-full bg-ink" style={{ width: width(f.progress ?? 0) }} />
        </span>
      )}
    </span>
  );
}
