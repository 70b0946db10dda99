import { Link } from "react-router";

import type { Camera, Machine } from "../../api/client";
import type { Size } from "../../api/looking";
import { duration, percent, width } from "../../ui/format";
import { StateMark } from "../../ui/state";
import { FOOT_PX } from "./fitting";
import { LivePicture } from "./live-picture";
import { kindName } from "./suspicion-card";
import { useOpenSuspicions } from "./watch-queries";

/** One camera among many: its picture, and how its machine stands. */
export function Tile({ camera, machine: m, size, rate, large }: { camera: Camera; machine: Machine | undefined; size: Size; rate: number; large: boolean }) {
  const b = m?.build;
  const live = b && !b.outcome;
  const suspicion = useOpenSuspicions("").data?.find((s) => camera.first && s.machine === m?.name && s.build === b?.id);
  const second = m && camera.name !== m.name ? camera.name : "";
  return (
    <Link
      to={m ? `/machines/${encodeURIComponent(m.name)}?camera=${encodeURIComponent(camera.name)}` : `/cameras/${encodeURIComponent(camera.name)}`}
      className="flex h-full min-w-0 flex-col overflow-hidden rounded-lg border border-rule bg-sheet text-ink no-underline hover:border-faded"
    >
      <span className="relative block min-h-0 flex-1">
        <LivePicture camera={camera} size={size} rate={rate} fit="cover" quiet />
        {suspicion && (
          <span className="absolute top-2 left-2 rounded-md border border-alarm bg-sheet px-2 py-0.5 text-sm font-semibold text-alarm">
            {kindName(suspicion)}? {percent(suspicion.probability)}
          </span>
        )}
      </span>
      <span className="block h-1 bg-sunk">
        {live && <span className="block h-full" style={{ width: width(b.progress ?? 0), background: `var(--${m.state})` }} />}
      </span>
      <span className="block px-3 py-1.5" style={{ height: FOOT_PX - 4 }}>
        <span className="flex items-baseline justify-between gap-3">
          <span className={`min-w-0 truncate font-semibold ${large ? "text-lg leading-6" : ""}`}>
            {m ? m.name : camera.name}
            {second && <span className="ml-1.5 text-sm font-normal text-faded">{second.replace(m!.name, "").trim() || second}</span>}
          </span>
          {live && <span className="font-semibold">{percent(b.progress ?? 0)}</span>}
        </span>
        <span className="flex items-baseline justify-between gap-3 text-sm whitespace-nowrap text-faded">
          {m ? <StateMark state={m.state} /> : <span className="truncate">{[camera.site, camera.place].filter(Boolean).join(", ") || "room"}</span>}
          {live && b.remaining_s != null && duration(b.remaining_s)}
        </span>
      </span>
    </Link>
  );
}
