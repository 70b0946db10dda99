import { Sheet, SheetTitle } from "../../ui/page";
import { COST_PARTS, COST_WORDS, money } from "./money";
import { useBuildCost } from "./queries";
import { Unpriced } from "./unpriced";

/** What a build cost, part by part. */
export function BuildCost({ build }: { build: number }) {
  const found = useBuildCost(build).data;
  if (!found || (Number(found.cost.total) === 0 && !(found.cost.unpriced ?? []).length)) return null;
  const total = Number(found.cost.total);
  const parts = COST_PARTS.filter((part) => Number(found.cost.parts[part] ?? 0) > 0);
  return (
    <Sheet>
      <SheetTitle beside={found.per_good_piece != null && found.good_pieces > 1 ? `${money(found.per_good_piece, found.currency)} for each of ${found.good_pieces} good pieces` : undefined}>Cost</SheetTitle>
      <div className="pb-4">
        <dl className="m-0 px-5">
          {parts.map((part) => (
            <div key={part} className="grid grid-cols-[6rem_1fr_auto] items-center gap-3 py-1">
              <dt className="text-faded">{COST_WORDS[part]}</dt>
              <div className="h-1.5 rounded-sm bg-sunk" aria-hidden>
                <div className="h-full rounded-sm bg-ink" style={{ width: `${(100 * Number(found.cost.parts[part])) / total}%` }} />
              </div>
              <dd className="m-0 text-right">{money(found.cost.parts[part] ?? 0, found.currency)}</dd>
            </div>
          ))}
          <div className="mt-1 flex justify-between border-t border-rule pt-2 font-semibold">
            <dt>in all</dt>
            <dd className="m-0">{money(found.cost.total, found.currency)}</dd>
          </div>
        </dl>
        <Unpriced costs={[found.cost]} />
      </div>
    </Sheet>
  );
}
