import { Link } from "react-router";

import { useNow } from "../../api/live";
import { useOrders } from "./queries";
import { soon } from "../../ui/format";
import { PromiseMark } from "../../ui/promise";

/** Orders in work, what is due first: whether each will be in time. */
export function OrdersStrip() {
  const orders = useOrders();
  const now = useNow(10_000);
  const list = orders.data ?? [];
  return (
    <div className="min-w-72 flex-[1.35]">
      <h2 className="m-0 mb-1.5 text-base font-semibold">Orders</h2>
      {orders.data && list.length === 0 && <p className="m-0 py-1.5 text-faded">No order is in work.</p>}
      <ul className="m-0 list-none p-0">
        {list.slice(0, 4).map((o) => (
          <li key={o.id} className="flex min-h-7 items-baseline gap-3">
            <Link to={`/orders/${o.id}`} className="min-w-0 flex-1 truncate text-ink" title={o.words}>
              {o.customer}
            </Link>
            <span className="shrink-0 text-faded">{o.due ? `due ${soon(o.due, now)}` : ""}</span>
            <span className="w-36 shrink-0">
              <PromiseMark promise={o.promise} chance={o.chance} since={o.promise_since} why={o.promise_why} />
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}
