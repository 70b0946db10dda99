import type { Job } from "../../api/client";

/** A requirement in a few words. */
export function needs(r: Job["requirement"]) {
  return (
    [
      [r.colour, r.material].filter(Boolean).join(" "),
      r.nozzle_mm ? `${r.nozzle_mm} mm` : "",
      r.hardened ? "hardened" : "",
      r.model,
      r.pool ? `pool ${r.pool}` : "",
      r.tags,
      r.volume_mm ? `${r.volume_mm.join(" × ")} mm` : "",
      r.machine ? `on ${r.machine}` : "",
    ]
      .filter(Boolean)
      .join(" · ") || "any machine"
  );
}
