import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";

import type { OrderBrief } from "../../api/client";
import { useNow } from "../../api/live";
import { useOrders, useStock } from "./queries";
import { Button } from "../../ui/button";
import { soon } from "../../ui/format";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Page, Sheet, SheetTitle } from "../../ui/page";
import { Expected, PromiseMark } from "../../ui/promise";
import { NewOrder } from "./new-order";
import { Pieces } from "./pieces";

export function OrdersPage() {
  const [ended, setEnded] = useState(false);
  const [making, setMaking] = useState(false);
  const orders = useOrders(ended);
  const list = orders.data ?? [];
  const stock = useStock();
  return (
    <Page
      title="Orders"
      beside={
        <div className="flex flex-wrap items-center gap-5">
          <label className="flex items-center gap-2 text-sm text-faded">
            <input type="checkbox" checked={ended} onChange={(e) => setEnded(e.target.checked)} />
            finished and cancelled too
          </label>
          <Link to="/what-if" className="text-sm text-ink">
            What if…
          </Link>
          <Button needs="queue" kind="strong" onClick={() => setMaking(true)}>
            <Plus size={16} aria-hidden /> New order
          </Button>
        </div>
      }
    >
      <Sheet className="mb-5 overflow-hidden">
        {orders.error ? (
          <Failed error={orders.error} again={() => orders.refetch()} />
        ) : orders.isPending ? (
          <Loading rows={3} height="h-20" />
        ) : list.length === 0 ? (
          <Empty title="No order is in work">
            Make one here, with <code>chronarch orders add</code>, or from a CSV with <code>chronarch orders add-csv</code>.
          </Empty>
        ) : (
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {list.map((o) => (
              <Row key={o.id} order={o} />
            ))}
          </ul>
        )}
        <More of={orders} />
      </Sheet>
      {(stock.data?.length ?? 0) > 0 && (
        <Sheet>
          <SheetTitle beside="good pieces that nobody has ordered; a new order may take them">Stock</SheetTitle>
          <ul className="m-0 grid list-none gap-x-8 px-5 pb-4 sm:grid-cols-2 lg:grid-cols-3">
            {stock.data?.map((s) => (
              <li key={`${s.part ?? s.file} ${s.material} ${s.colour}`} className="flex justify-between gap-4 border-b border-rule py-1.5">
                <span>
                  {s.part ?? s.file} <span className="text-faded">{[s.colour, s.material].filter(Boolean).join(" ")}</span>
                </span>
                <strong>{s.pieces}</strong>
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      {making && <NewOrder close={() => setMaking(false)} />}
    </Page>
  );
}

function Row({ order: o }: { order: OrderBrief }) {
  const now = useNow(10_000);
  const over = o.state === "finished" || o.state === "cancelled";
  return (
    <li className="grid grid-cols-[1fr_auto] items-center gap-x-6 gap-y-1.5 px-5 py-4 lg:grid-cols-[minmax(0,1.3fr)_minmax(0,1fr)_minmax(0,1.2fr)_9rem]">
      <div className="min-w-0">
        <Link to={`/orders/${o.id}`} className="block truncate text-base font-semibold text-ink">
          {o.customer}
        </Link>
        <span className="text-sm text-faded">
          order {o.id}
          {o.note ? ` · ${o.note}` : ""}
        </span>
      </div>
      <div className="justify-self-end lg:hidden">
        <Standing order={o} />
      </div>
      <div className="col-span-2 lg:col-span-1">
        <Pieces good={o.good} building={o.building} waiting={o.waiting} pieces={o.pieces} />
      </div>
      <div className="col-span-2 text-sm lg:col-span-1 lg:text-base">
        {over ? (
          <span className="text-faded">{o.words}</span>
        ) : (
          <>
            <div>
              {o.state === "held" ? "held; nothing starts" : <>complete <Expected range={o.expected} now={now} /></>}
            </div>
            <div className="text-sm text-faded">{o.due ? `due ${soon(o.due, now)}` : "nothing is due"}</div>
          </>
        )}
      </div>
      <div className="hidden lg:block">
        <Standing order={o} />
      </div>
    </li>
  );
}

function Standing({ order: o }: { order: OrderBrief }) {
  if (o.state === "cancelled" || o.state === "held") return <span className="text-faded">{o.state}</span>;
  return <PromiseMark promise={o.promise} chance={o.chance} since={o.promise_since} why={o.promise_why} />;
}
