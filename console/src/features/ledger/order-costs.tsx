import { Link } from "react-router";

import type { components } from "../../api/schema";
import { percent } from "../../ui/format";
import { Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { money } from "./money";
import { useOrderCost } from "./queries";
import { Unpriced } from "./unpriced";

type OrderCost = components["schemas"]["OrderCost"];

/** What an order should cost, for what it may be offered, and what it has cost so far. */
export function OrderCosts({ order, held }: { order: number; held: boolean }) {
  const found = useOrderCost(order);
  return (
    <Sheet className="mt-5 overflow-hidden">
      <SheetTitle
        beside={
          <Link to={`/orders/${order}/quote`} className="text-ink">
            Quote to print
          </Link>
        }
      >
        Costs
      </SheetTitle>
      {found.error ? <Failed error={found.error} again={() => found.refetch()} /> : found.data ? <Known cost={found.data} held={held} /> : <Loading rows={3} />}
    </Sheet>
  );
}

const cell = "px-3 py-2 text-right whitespace-nowrap first:pl-5 first:text-left first:whitespace-normal last:pr-5";

function Known({ cost: c, held }: { cost: OrderCost; held: boolean }) {
  const of = (amount: string) => money(amount, c.currency);
  const started = Number(c.real.total) > 0;
  return (
    <div className="pb-4">
      <p className="mx-5 mt-1 mb-3">
        <span className="font-serif text-2xl font-semibold">{of(c.price)}</span>{" "}
        <span className="text-faded">
          is its price with a margin of {percent(Number(c.margin))}: it should cost {of(c.quoted.total)}
          {Number(c.quoted_scrap) > 0 && `, of which ${of(c.quoted_scrap)} for scrap`}
          {started && `; it has cost ${of(c.real.total)}${Number(c.scrap) > 0 ? `, of which ${of(c.scrap)} scrap` : ""}`}.{held && " It is held: release it once it is accepted."}
        </span>
      </p>
      <div className="overflow-x-auto">
        <table className="w-full border-collapse text-sm">
          <thead className="text-faded">
            <tr className="border-b border-rule">
              {["Line", "Pieces", "Cheapest on", "Should cost", "Each", "Good so far", "Has cost", "Scrap"].map((name) => (
                <th key={name} className={`${cell} font-medium`}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {c.lines.map((line) => (
              <tr key={line.job} className="border-b border-rule last:border-0">
                <td className={cell}>{line.name}</td>
                <td className={cell}>{line.quantity}</td>
                <td className={cell}>{line.made_on || "no machine"}</td>
                <td className={cell}>{line.quoted ? of(line.quoted.total) : "–"}</td>
                <td className={cell}>{line.quoted && line.quantity ? money(Number(line.quoted.total) / line.quantity, c.currency) : "–"}</td>
                <td className={cell}>{line.made}</td>
                <td className={cell}>{started ? of(line.real.total) : "–"}</td>
                <td className={cell}>{started ? of(line.scrap) : "–"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <Unpriced costs={[c.quoted, c.real]} />
    </div>
  );
}
