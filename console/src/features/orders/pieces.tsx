import { width } from "../../ui/format";

/** How many pieces are good, being built and waiting, as one bar and in words. */
export function Pieces({ good, building, waiting, pieces }: { good: number; building: number; waiting: number; pieces: number }) {
  const all = Math.max(1, pieces, good + building + waiting);
  return (
    <div>
      <div className="flex h-2 overflow-hidden rounded-full bg-sunk" aria-hidden>
        <span style={{ width: width(good / all), background: "var(--building)" }} />
        <span className="state-bar" data-state="forecast" style={{ width: width(building / all) }} />
      </div>
      <div className="mt-1 text-sm text-faded">
        <strong className="text-ink">{good}</strong> of {pieces} good
        {building > 0 && ` · ${building} building`}
        {waiting > 0 && ` · ${waiting} waiting`}
      </div>
    </div>
  );
}
