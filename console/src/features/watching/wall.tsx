import { useEffect, useState } from "react";

import type { Camera, Machine } from "../../api/client";
import { useLive, useNow } from "../../api/live";
import { clock, day } from "../../ui/format";
import { usePlan } from "../planning/queries";
import { columnsFor, FOOT_PX, GAP_PX } from "./fitting";
import { Tile } from "./tile";

const TURN_MS = 15_000;
const HEAD_PX = 60;

/** The cameras on a big screen in the shop: nothing to press, as many as fit, the others in turn; dim while nobody is there. */
export function Wall({ cameras, machines }: { cameras: Camera[]; machines: Map<string, Machine> }) {
  const [room, setRoom] = useState({ wide: window.innerWidth, high: window.innerHeight });
  const [turn, setTurn] = useState(0);
  const now = useNow();
  const { lost } = useLive();
  const plan = usePlan();
  useEffect(() => {
    const measure = () => setRoom({ wide: window.innerWidth, high: window.innerHeight });
    const timer = setInterval(() => setTurn((n) => n + 1), TURN_MS);
    window.addEventListener("resize", measure);
    const lock = navigator.wakeLock?.request("screen").catch(() => null);
    return () => {
      clearInterval(timer);
      window.removeEventListener("resize", measure);
      void lock?.then((held) => held?.release());
    };
  }, []);
  const wide = room.wide - 32;
  const high = room.high - HEAD_PX - 16;
  const { columns, fits } = columnsFor(cameras.length, wide, high);
  const tile = (wide - GAP_PX * (columns - 1)) / columns;
  const rows = fits ? Math.ceil(cameras.length / columns) : Math.max(1, Math.floor(high / (tile * 0.75 + FOOT_PX)));
  const each = Math.max(1, columns * rows);
  const pages = Math.max(1, Math.ceil(cameras.length / each));
  const first = (turn % pages) * each;
  const staffed = plan.data?.staffed ?? [];
  const away = staffed.length > 0 && !staffed.some((s) => Date.parse(s.begin) <= now.getTime() && Date.parse(s.end) > now.getTime());
  return (
    <div
      data-theme="dark"
      data-dim={away}
      className="fixed inset-0 z-40 flex flex-col bg-ground px-4 pb-4 text-ink transition-opacity duration-1000"
      style={{ filter: away ? "brightness(0.45)" : undefined }}
    >
      <header className="flex shrink-0 items-center justify-between" style={{ height: HEAD_PX }}>
        <h1 className="m-0 text-2xl font-semibold">Cameras</h1>
        <span className="text-lg text-faded">
          {lost ? `no connection since ${clock(lost)}` : pages > 1 ? `${(turn % pages) + 1} of ${pages}` : ""}
        </span>
        <span className="flex items-baseline gap-3 text-2xl">
          <span className="text-lg text-faded">{day(now)}</span>
          <span className="font-semibold text-brass">{clock(now)}</span>
        </span>
      </header>
      <ul
        className="m-0 grid min-h-0 flex-1 list-none content-start gap-3 p-0"
        style={{ gridTemplateColumns: `repeat(${columns}, minmax(0, 1fr))`, gridAutoRows: tile * 0.75 + FOOT_PX }}
      >
        {cameras.slice(first, first + each).map((c) => (
          <li key={c.name} className="min-h-0 min-w-0">
            <Tile camera={c} machine={machines.get(c.machine ?? "")} size={tile > 520 ? "full" : "small"} rate={2} large={tile > 320} />
          </li>
        ))}
      </ul>
    </div>
  );
}
