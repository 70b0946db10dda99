import { useEffect, useState } from "react";

import type { Machine } from "../../api/client";

/** A machine's newest frame, small. The old one stays until the new one is there, so nothing blinks. */
export function Frame({ machine, className = "" }: { machine: Pick<Machine, "name" | "camera" | "frame_at">; className?: string }) {
  const address =
    machine.camera && machine.frame_at
      ? `/api/cameras/${encodeURIComponent(machine.camera)}/frame?size=small&at=${encodeURIComponent(machine.frame_at)}`
      : null;
  const [shown, setShown] = useState<string | null>(null);
  useEffect(() => {
    if (!address) return;
    let wanted = true;
    const next = new Image();
    next.onload = () => wanted && setShown(address);
    next.src = address;
    return () => {
      wanted = false;
    };
  }, [address]);
  return (
    <span className={`block shrink-0 overflow-hidden bg-sunk ${className}`}>
      {shown ? (
        <img src={shown} alt={`${machine.name}, newest camera frame`} className="h-full w-full object-cover" />
      ) : (
        <span className="grid h-full place-items-center text-xs text-faded">{machine.camera ? "no frame" : "no camera"}</span>
      )}
    </span>
  );
}
