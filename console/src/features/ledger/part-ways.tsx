import { percent } from "../../ui/format";
import { Sheet, SheetTitle } from "../../ui/page";
import { COST_PARTS, COST_WORDS, money } from "./money";
import { usePartCost } from "./queries";
import { Unpriced } from "./unpriced";

const cell = "px-2 py-2 text-right whitespace-nowrap first:pl-5 first:text-left last:pr-5";

/** The ways to make a part, the cheapest first: which file on which model. */
export function PartWays({ part }: { part: number }) {
  const found = usePartCost(part).data;
  if (!found || found.ways.length === 0 || found.ways.every((way) => Number(way.each.total) === 0)) return null;
  return (
    <Sheet className="overflow-hidden">
      <SheetTitle beside="a good piece, the cheapest first">What it costs</SheetTitle>
      <div className="overflow-x-auto pb-2">
        <table className="w-full border-collapse text-sm">
          <thead className="text-faded">
            <tr className="border-b border-rule">
              {["On", "Each", ...COST_PARTS.map((part) => COST_WORDS[part]), "for scrap"].map((name) => (
                <th key={name} className={`${cell} font-medium`}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {found.ways.map((way) => (
              <tr key={`${way.file} ${way.model}`} className="border-b border-rule align-baseline last:border-0">
                <td className={cell}>
                  {way.model}
                  <span className="block max-w-44 truncate text-faded" title={way.file}>
                    {way.file}
                    {way.pieces > 1 && `, ${way.pieces} pieces`}
                  </span>
                </td>
                <td className={`${cell} font-semibold`}>{money(way.each.total, found.currency)}</td>
                {COST_PARTS.map((part) => (
                  <td key={part} className={`${cell} text-faded`}>
                    {way.each.parts[part] == null ? "–" : money(way.each.parts[part], found.currency)}
                  </td>
                ))}
                <td className={`${cell} text-faded`}>
                  {money(way.scrap, found.currency)}
                  <span className="block">{percent(way.scrap_share)}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        <Unpriced costs={found.ways.map((way) => way.each)} />
      </div>
    </Sheet>
  );
}
