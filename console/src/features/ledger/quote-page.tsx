import { useParams } from "react-router";

import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { day } from "../../ui/format";
import { Failed, Loading, Sheet } from "../../ui/page";
import { useOrder } from "../orders/queries";
import { useShop } from "../system/queries";
import { money } from "./money";
import { useOrderCost } from "./queries";

/** An offer on one sheet, for whoever ordered: what, how many, for how much, when. Nothing of what it costs the shop. */
export function QuotePage() {
  const number = Number(useParams().number);
  const shop = useShop().data;
  const order = useOrder(number);
  const cost = useOrderCost(number);
  const now = useNow(60_000);
  const failed = order.error ?? cost.error;
  if (failed || !order.data || !cost.data || !shop) return <Sheet className="m-6">{failed ? <Failed error={failed} /> : <Loading rows={5} />}</Sheet>;
  const [o, c] = [order.data, cost.data];
  return (
    <div className="mx-auto max-w-[50rem] px-6 py-10 print:max-w-none print:p-0">
      <div className="mb-6 flex justify-end print:hidden">
        <Button kind="strong" onClick={() => window.print()}>
          Print
        </Button>
      </div>
      <article className="rounded-lg border border-rule bg-sheet px-10 py-12 print:border-0 print:p-0">
        <header className="flex items-baseline justify-between gap-6">
          <h1 className="text-2xl font-semibold">{shop.name}</h1>
          <p className="m-0 text-faded">{day(now)} {now.getFullYear()}</p>
        </header>
        <h2 className="mt-10 mb-1 text-xl font-semibold">Quote for order {o.id}</h2>
        <p className="m-0">For {o.customer}</p>
        <table className="mt-8 w-full border-collapse">
          <thead className="text-sm text-faded">
            <tr className="border-b border-rule">
              <th className="py-2 text-left font-medium">What</th>
              <th className="py-2 text-right font-medium">Pieces</th>
              <th className="py-2 text-right font-medium">Price</th>
            </tr>
          </thead>
          <tbody>
            {c.lines.map((line) => {
              const job = o.lines.find((j) => j.id === line.job);
              const of = [job?.requirement?.colour, job?.requirement?.material].filter(Boolean).join(" ");
              return (
                <tr key={line.job} className="border-b border-rule">
                  <td className="py-2.5">
                    {line.name.replace(/\.gcode$/i, "")}
                    {of && <span className="text-faded">, {of}</span>}
                  </td>
                  <td className="py-2.5 text-right">{line.quantity}</td>
                  <td className="py-2.5 text-right">{line.price == null ? "on request" : money(line.price, c.currency)}</td>
                </tr>
              );
            })}
            <tr className="text-lg font-semibold">
              <td className="pt-4">In all</td>
              <td />
              <td className="pt-4 text-right">{money(c.price, c.currency)}</td>
            </tr>
          </tbody>
        </table>
        <p className="mt-8 mb-0">{o.due ? `Wanted by ${day(o.due)}.` : "No day is asked for."} {c.ready ? `Ready by ${day(c.ready.late)} if it is ordered now.` : ""}</p>
      </article>
    </div>
  );
}
