import { lazy, Suspense, useState } from "react";
import { Link } from "react-router";

import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { DoneDialog } from "./done-dialog";
import { type Trend, useTrends } from "./queries";
import { TaskDialog } from "./task-dialog";
import { Tasks } from "./tasks";
import { UpkeepLinks } from "./upkeep-links";

const TrendChart = lazy(() => import("./trend-chart"));
const ORDER = { out: 0, drifts: 1, fine: 2 };
const SAYS = { out: "out of tolerance", drifts: "drifts", fine: "fine" };

/** What each check measured at each machine, the worst first. */
export function CalibrationPage() {
  const trends = useTrends();
  const [adding, setAdding] = useState(false);
  const rank = (t: Trend) => (t.verdict ? ORDER[t.verdict] : 3);
  const sorted = [...(trends.data ?? [])].sort((a, b) => rank(a) - rank(b));
  return (
    <Page
      title="Upkeep"
      beside={
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          <UpkeepLinks />
          <Button kind="strong" onClick={() => setAdding(true)}>
            Add a check
          </Button>
        </div>
      }
    >
      {trends.error ? (
        <Sheet>
          <Failed error={trends.error} again={() => trends.refetch()} />
        </Sheet>
      ) : !trends.data ? (
        <Sheet>
          <Loading rows={4} />
        </Sheet>
      ) : sorted.length === 0 ? (
        <Sheet>
          <Empty title="There are no checks">
            Add one, like the size of a test cube along X: 20 ± 0.2 mm each month. Its values are drawn here, and it warns when they drift.
          </Empty>
        </Sheet>
      ) : (
        <>
          <div className="mb-5 grid gap-5 sm:grid-cols-2 xl:grid-cols-3">
            {sorted.map((t) => (
              <Card key={`${t.task} ${t.machine}`} trend={t} />
            ))}
          </div>
          <Tasks checks />
        </>
      )}
      {adding && <TaskDialog check close={() => setAdding(false)} />}
    </Page>
  );
}

export function Card({ trend: t, alone = false }: { trend: Trend; alone?: boolean }) {
  const now = useNow(60_000);
  const [doing, setDoing] = useState(false);
  const newest = t.readings.at(-1);
  const look = t.verdict === "out" ? "bg-alarm-wash text-alarm" : t.verdict === "drifts" ? "bg-sunk font-medium" : "text-faded";
  return (
    <Sheet className="flex min-w-0 flex-col">
      <div className="flex items-baseline justify-between gap-3 px-5 pt-4">
        <h2 className="m-0 min-w-0 truncate text-base font-semibold">
          {!alone && <Link to={`/machines/${t.machine}`}>{t.machine}</Link>} <span className={alone ? "" : "font-normal"}>{t.name}</span>
        </h2>
        <span className={`rounded px-1.5 py-0.5 text-sm whitespace-nowrap ${look}`}>{t.verdict ? SAYS[t.verdict] : "never measured"}</span>
      </div>
      <div className="px-3 pt-2">{t.readings.length > 0 && <Suspense fallback={<div style={{ height: 120 }} />}>{<TrendChart trend={t} />}</Suspense>}</div>
      <div className="mt-auto flex items-end justify-between gap-3 px-5 pb-3">
        <p className="m-0 text-sm text-faded">
          {newest ? (
            <>
              {t.text}, {when(newest.at, now)}
            </>
          ) : (
            <>
              should be {t.nominal} ± {t.tolerance} {t.unit}
            </>
          )}
        </p>
        <Button kind="quiet" onClick={() => setDoing(true)}>
          Measured…
        </Button>
      </div>
      {doing && <DoneDialog machine={t.machine} due={{ task: t.task, name: t.name, check: true, part: "", minutes: 15 }} close={() => setDoing(false)} />}
    </Sheet>
  );
}
