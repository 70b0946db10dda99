import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";

import { api, type Job, type Order, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useOrder } from "./queries";
import { Button } from "../../ui/button";
import { Dialog, Field, FormDialog, inputLook } from "../../ui/dialog";
import { fromLocal, localInput, when } from "../../ui/format";
import { Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Expected, PromiseMark } from "../../ui/promise";
import { OrderCosts } from "../ledger/order-costs";
import { FilmRuleLine } from "../watching/film-rule";
import { needs } from "./needs-words";
import { Pieces } from "./pieces";
import { TimeField } from "../../ui/time-field";

export function OrderPage() {
  const number = Number(useParams().number);
  const order = useOrder(number);
  if (order.error || !order.data)
    return (
      <Page title={`Order ${number}`}>
        <Sheet>{order.error ? <Failed error={order.error} again={() => order.refetch()} /> : <Loading />}</Sheet>
      </Page>
    );
  return <Known order={order.data} />;
}

function Known({ order: o }: { order: Order }) {
  const [asking, setAsking] = useState<"change" | "cancel" | "repeat" | null>(null);
  const now = useNow(10_000);
  const hold = useChange(
    (held: boolean) => value(api.PATCH("/api/orders/{number}", { params: { path: { number: o.id } }, body: { held } })),
    "orders",
    "jobs",
    "plan",
  );
  const over = o.state === "finished" || o.state === "cancelled";
  return (
    <Page
      title={
        <span className="flex flex-wrap items-baseline gap-x-4">
          {o.customer} <PromiseMark promise={o.state === "cancelled" ? "none" : o.promise} chance={o.chance} />
        </span>
      }
      beside={
        <div className="flex flex-wrap gap-2">
          {!over && <Button needs="queue" onClick={() => setAsking("change")}>Change…</Button>}
          {!over && (
            <Button needs="queue" asked={hold.isPending} onClick={() => hold.mutate(o.state !== "held")}>
              {o.state === "held" ? "Release" : "Hold"}
            </Button>
          )}
          <Button needs="queue" onClick={() => setAsking("repeat")}>Repeat…</Button>
          {!over && (
            <Button needs="queue" kind="danger" onClick={() => setAsking("cancel")}>
              Cancel…
            </Button>
          )}
        </div>
      }
    >
      <p className="mt-0 mb-5 max-w-3xl text-lg">{o.words}</p>
      <Refusal error={hold.error} />
      <p className="mt-0 mb-5 text-faded">
        Films: <FilmRuleLine scope="order" subject={String(o.id)} />
      </p>
      {(o.note || (o.tags?.length ?? 0) > 0 || o.repeats) && (
        <p className="mt-0 mb-5 text-faded">
          {[o.note, ...(o.tags ?? []), o.repeats ? `repeats order ${o.repeats}` : ""].filter(Boolean).join(" · ")}
        </p>
      )}
      <Sheet className="overflow-hidden">
        <SheetTitle beside={`order ${o.id}, made ${when(o.created_at, now)} by ${o.created_by}`}>Lines</SheetTitle>
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {o.lines.map((job) => (
            <Line key={job.id} job={job} now={now} over={over} />
          ))}
        </ul>
      </Sheet>
      {o.state !== "cancelled" && <OrderCosts order={o.id} held={o.state === "held"} />}
      {asking === "change" && <Change order={o} close={() => setAsking(null)} />}
      {asking === "cancel" && <Cancel order={o} close={() => setAsking(null)} />}
      {asking === "repeat" && <Repeat order={o} close={() => setAsking(null)} />}
    </Page>
  );
}

function Line({ job, now, over }: { job: Job; now: Date; over: boolean }) {
  const [changing, setChanging] = useState(false);
  const live = job.state === "waiting" || job.state === "running";
  return (
    <li className="grid gap-x-6 gap-y-1.5 px-5 py-4 lg:grid-cols-[minmax(0,1fr)_minmax(0,1fr)_minmax(0,1.4fr)_auto] lg:items-center">
      <div className="min-w-0">
        <div className="font-semibold">{job.file}</div>
        <div className="text-sm text-faded">
          job {job.id} · {needs(job.requirement)}
          {(job.pieces ?? 1) > 1 && ` · ${job.pieces} a build`}
          {(job.from_stock ?? 0) > 0 && ` · ${job.from_stock} from stock`}
        </div>
      </div>
      <Pieces good={Math.min(job.good, job.copies)} building={job.building} waiting={live || job.state === "held" ? job.waiting : 0} pieces={job.copies} />
      <div className="text-sm">
        {live && (
          <div className="text-base">
            <Expected range={job.expected} now={now} />
          </div>
        )}
        <span className="text-faded">{job.why || (live ? "" : job.state)}</span>
      </div>
      {!over && job.state !== "withdrawn" && (
        <Button needs="queue" kind="quiet" onClick={() => setChanging(true)}>
          Quantity…
        </Button>
      )}
      {changing && <Quantity job={job} close={() => setChanging(false)} />}
    </li>
  );
}

function Quantity({ job, close }: { job: Job; close: () => void }) {
  const [copies, setCopies] = useState(job.copies);
  const change = useChange(
    () => value(api.PATCH("/api/jobs/{number}", { params: { path: { number: job.id } }, body: { copies } })).then(close),
    "orders",
    "jobs",
    "plan",
  );
  const fewer = copies < job.good ? `${job.good - copies} good ones go to stock.` : "";
  return (
    <FormDialog
      title={`How many of ${job.file}?`}
      text={`${job.good} are good, ${job.building} are being built.`}
      close={close}
      send={() => change.mutate(undefined)}
      asked={change.isPending}
      error={change.error}
      action={`Make it ${copies}`}
    >
      <Field label="Quantity" hint={fewer}>
        <input className={inputLook} type="number" min={1} max={10000} autoFocus value={copies} onChange={(e) => setCopies(Number(e.target.value))} />
      </Field>
    </FormDialog>
  );
}

function Change({ order: o, close }: { order: Order; close: () => void }) {
  const [due, setDue] = useState(o.due ? localInput(new Date(o.due)) : "");
  const [note, setNote] = useState(o.note ?? "");
  const [priority, setPriority] = useState(o.priority ?? 0);
  const change = useChange(
    () =>
      value(
        api.PATCH("/api/orders/{number}", {
          params: { path: { number: o.id } },
          body: { due: due ? fromLocal(due).toISOString() : null, note, priority },
        }),
      ).then(close),
    "orders",
    "jobs",
    "plan",
  );
  return (
    <FormDialog title={`Change order ${o.id}`} close={close} send={() => change.mutate(undefined)} asked={change.isPending} error={change.error} action="Change it">
      <Field label="Due">
        <TimeField value={due} change={setDue} />
      </Field>
      <Field label="Priority">
        <select className={inputLook} value={priority} onChange={(e) => setPriority(Number(e.target.value))}>
          {[2, 1, 0, -1, -2].map((p) => (
            <option key={p} value={p}>
              {{ 2: "before everything", 1: "before others", 0: "as usual", [-1]: "after others", [-2]: "last of all" }[p]}
            </option>
          ))}
        </select>
      </Field>
      <Field label="Note">
        <input className={inputLook} value={note} maxLength={2000} onChange={(e) => setNote(e.target.value)} />
      </Field>
    </FormDialog>
  );
}

function Cancel({ order: o, close }: { order: Order; close: () => void }) {
  const cancel = useChange(
    (running: "finish" | "stop" | null) =>
      value(api.POST("/api/orders/{number}/cancel", { params: { path: { number: o.id } }, body: { running } })).then(close),
    "orders",
    "jobs",
    "plan",
  );
  return (
    <Dialog
      open
      close={close}
      title={`Cancel order ${o.id}?`}
      text={`${o.waiting} waiting pieces will not be made; ${o.good} good ones go to stock.${o.building ? ` ${o.building} are being built: what becomes of them?` : ""}`}
    >
      <Refusal error={cancel.error} />
      <div className="flex flex-wrap justify-end gap-2">
        <Button kind="quiet" onClick={close}>
          Keep it
        </Button>
        {o.building > 0 ? (
          <>
            <Button kind="danger" asked={cancel.isPending} onClick={() => cancel.mutate("stop")}>
              Cancel, stop them
            </Button>
            <Button kind="strong" asked={cancel.isPending} onClick={() => cancel.mutate("finish")}>
              Cancel, let them finish
            </Button>
          </>
        ) : (
          <Button kind="danger" asked={cancel.isPending} onClick={() => cancel.mutate(null)}>
            Cancel the order
          </Button>
        )}
      </div>
    </Dialog>
  );
}

function Repeat({ order: o, close }: { order: Order; close: () => void }) {
  const [due, setDue] = useState("");
  const navigate = useNavigate();
  const repeat = useChange(
    async () => {
      const made = await value(
        api.POST("/api/orders/{number}/repeat", {
          params: { path: { number: o.id } },
          body: { due: due ? fromLocal(due).toISOString() : null },
        }),
      );
      close();
      void navigate(`/orders/${made.id}`);
    },
    "orders",
    "jobs",
    "plan",
  );
  return (
    <FormDialog
      title={`Repeat order ${o.id}`}
      text={`The same ${o.lines.length === 1 ? "line" : `${o.lines.length} lines`} once more for ${o.customer}.`}
      close={close}
      send={() => repeat.mutate(undefined)}
      asked={repeat.isPending}
      error={repeat.error}
      action="Make it"
    >
      <Field label="Due" hint="Without it nothing is due.">
        <TimeField value={due} change={setDue} />
      </Field>
      <p className="m-0 text-sm text-faded">
        What is in <Link to="/orders">stock</Link> can be taken by a new order instead.
      </p>
    </FormDialog>
  );
}
