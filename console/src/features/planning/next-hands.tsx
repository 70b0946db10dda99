import { useState } from "react";
import { Link } from "react-router";

import type { Machine } from "../../api/client";
import { useNow } from "../../api/live";
import { useRounds } from "../rounds/queries";
import { Button } from "../../ui/button";
import { clock, duration } from "../../ui/format";
import { wantsHands } from "../../ui/state";
import { ClearDialog } from "../orders/clear";
import { OrdersStrip } from "../orders/orders-strip";

const WANTED: Partial<Record<Machine["state"], string>> = {
  uncleared: "clear and judge",
  paused: "look: paused",
  down: "fix: down",
};
const COMING = 4;
/** Rows of what is wanted now; the rounds have all. */
const MOST = 6;

/** What hands must do now, and the next builds that will need them, soonest first. */
export function Hands({ machines }: { machines: Machine[] }) {
  const now = useNow(2000);
  const [clearing, setClearing] = useState<Machine | null>(null);
  const tasks = useRounds(null).data?.tasks ?? [];
  const waiting = machines.filter(wantsHands).sort((a, b) => Date.parse(a.since) - Date.parse(b.since));
  const due = waiting.slice(0, MOST);
  const others = tasks.filter((t) => ["load", "nozzle", "start", "judge", "confirm"].includes(t.kind));
  const loads = others.slice(0, MOST - due.length);
  const more = waiting.length + others.length - due.length - loads.length;
  const coming = machines
    .filter((m) => m.build?.expected_end && m.state !== "paused")
    .sort((a, b) => Date.parse(a.build!.expected_end!) - Date.parse(b.build!.expected_end!))
    .slice(0, COMING);
  return (
    <section aria-label="Next hands" className="mb-5 flex flex-wrap items-stretch gap-x-8 gap-y-3">
      <div className="min-w-60 flex-1">
        <h2 className="m-0 mb-1.5 flex items-baseline gap-2 text-base font-semibold text-brass">Now</h2>
        {due.length === 0 && loads.length === 0 && <p className="m-0 py-1.5 text-faded">Nothing needs hands.</p>}
        <ul className="m-0 flex list-none flex-col gap-1.5 p-0">
          {due.map((m) => (
            <li key={m.name} className="flex min-h-9 items-center gap-3">
              <Link to={`/machines/${encodeURIComponent(m.name)}`} className="w-16 font-semibold text-ink">
                {m.name}
              </Link>
              <span className="line-clamp-2 min-w-0 flex-1" title={m.reason || undefined}>
                {WANTED[m.state]}
                <span className="text-faded">
                  {" "}
                  · {duration((now.getTime() - Date.parse(m.since)) / 1000)}
                  {m.reason && ` · ${m.reason}`}
                </span>
              </span>
              {m.state === "uncleared" && m.build && <Button needs="judge" at={m} onClick={() => setClearing(m)}>Clear…</Button>}
            </li>
          ))}
          {loads.map((t) => (
            <li key={`${t.machine} ${t.kind}`} className="flex min-h-9 items-center gap-3">
              <Link to={`/machines/${encodeURIComponent(t.machine)}`} className="w-16 font-semibold text-ink">
                {t.machine}
              </Link>
              <span className="min-w-0 flex-1">{t.text}</span>
            </li>
          ))}
        </ul>
        {due.length + loads.length > 0 && (
          <Link to="/rounds" className="mt-1 inline-block text-sm">
            Go the rounds{more > 0 ? `: ${more} more` : ""}
          </Link>
        )}
      </div>
      <div className="min-w-60 flex-1">
        <h2 className="m-0 mb-1.5 text-base font-semibold">Ends next</h2>
        {coming.length === 0 && <p className="m-0 py-1.5 text-faded">No build is under way.</p>}
        <ul className="m-0 list-none p-0">
          {coming.map((m) => (
            <li key={m.name} className="flex min-h-7 items-baseline gap-3">
              <span className="w-12 font-semibold">{clock(m.build!.expected_end!)}</span>
              <span className="w-16">{m.name}</span>
              <span className="min-w-0 flex-1 truncate text-faded" title="ends then, and cools">
                {m.build!.file}
              </span>
            </li>
          ))}
        </ul>
      </div>
      <OrdersStrip />
      {clearing?.build && (
        <ClearDialog machine={clearing.name} build={clearing.build} close={() => setClearing(null)} />
      )}
    </section>
  );
}
