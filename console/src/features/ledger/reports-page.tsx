import { useState } from "react";

import type { components } from "../../api/schema";
import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Dialog, Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useMachines } from "../machines/queries";
import { useKeptReport, useKeptReports, useReportPlans, useReportPreview } from "./queries";
import { RecordsLinks } from "./records-links";

type ReportPlan = components["schemas"]["ReportPlan"];
type KeptReport = components["schemas"]["KeptReport"];
type Every = components["schemas"]["ReportEvery"];

const EVERY: { value: Every; name: string }[] = [
  { value: "week", name: "each week" },
  { value: "month", name: "each month" },
  { value: "shift", name: "when a shift ends" },
];

/** Reports that come by themselves, and those that came, each opened as it was. */
export function ReportsPage() {
  const plans = useReportPlans();
  const kept = useKeptReports();
  const now = useNow(60_000);
  const [changing, setChanging] = useState<ReportPlan | "new" | null>(null);
  const [seeing, setSeeing] = useState<ReportPlan | null>(null);
  const [opened, setOpened] = useState<KeptReport | null>(null);
  return (
    <Page
      title="Reports"
      beside={
        <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
          <RecordsLinks here="/records/reports" />
          <Button kind="strong" onClick={() => setChanging("new")}>
            Add a report
          </Button>
        </div>
      }
    >
      <div className="grid gap-5 lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)] lg:items-start">
        <Sheet className="min-w-0">
          <SheetTitle>What comes by itself</SheetTitle>
          {plans.error ? (
            <Failed error={plans.error} again={() => plans.refetch()} />
          ) : !plans.data ? (
            <Loading rows={3} />
          ) : plans.data.length === 0 ? (
            <Empty title="No report comes by itself">Add one, like the week each Monday at seven, to whoever wants it.</Empty>
          ) : (
            <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
              {plans.data.map((p) => (
                <Plan key={p.id} plan={p} change={() => setChanging(p)} see={() => setSeeing(p)} />
              ))}
            </ul>
          )}
        </Sheet>
        <Sheet className="min-w-0">
          <SheetTitle>What came</SheetTitle>
          {kept.error ? (
            <Failed error={kept.error} again={() => kept.refetch()} />
          ) : !kept.data ? (
            <Loading rows={5} />
          ) : kept.data.length === 0 ? (
            <Empty title="None was made yet">They stand here as they were when they were sent.</Empty>
          ) : (
            <ul className="m-0 list-none divide-y divide-rule p-0 pb-2">
              {kept.data.map((one) => (
                <li key={one.id} className="grid grid-cols-[1fr_auto] items-center gap-x-4 px-5 py-2">
                  <span className="min-w-0">
                    <button type="button" className="text-left font-semibold text-ink" onClick={() => setOpened(one)}>
                      {one.name}
                    </button>
                    <span className="block text-sm text-faded">
                      made {when(one.made_at, now)}
                      {one.asked_by && `, asked for by ${one.asked_by}`}
                      {one.sent.length > 0 && ` · sent to ${one.sent.join(", ")}`}
                    </span>
                    {one.trouble && <span className="block text-sm text-alarm">{one.trouble}</span>}
                  </span>
                  <span className="flex gap-3 text-sm">
                    <a href={`/api/report/kept/${one.id}/pdf`} target="_blank" rel="noreferrer">
                      PDF
                    </a>
                    <a href={`/api/report/kept/${one.id}/csv`} download={`report-${one.id}.csv`}>
                      CSV
                    </a>
                  </span>
                </li>
              ))}
            </ul>
          )}
          {kept.hasNextPage && (
            <p className="m-0 px-5 pb-4">
              <Button asked={kept.isFetchingNextPage} onClick={() => kept.fetchNextPage()}>
                Older ones
              </Button>
            </p>
          )}
        </Sheet>
      </div>
      {changing && <Planned plan={changing === "new" ? undefined : changing} close={() => setChanging(null)} />}
      {seeing && <Preview plan={seeing} close={() => setSeeing(null)} />}
      {opened && <Opened report={opened} close={() => setOpened(null)} />}
    </Page>
  );
}

function Plan({ plan: p, change, see }: { plan: ReportPlan; change: () => void; see: () => void }) {
  const every = EVERY.find((one) => one.value === p.every)!.name;
  return (
    <li className="px-5 py-2.5">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className={p.on ? "font-semibold" : "text-faded"}>{p.name}</span>
        <span className="flex">
          <Button kind="quiet" onClick={see}>
            Preview
          </Button>
          <Button kind="quiet" onClick={change}>
            Change
          </Button>
        </span>
      </div>
      <p className="m-0 text-sm text-faded">
        {every}
        {p.every !== "shift" && `, ${String(p.hour).padStart(2, "0")}:00`} · {[p.site, p.group].filter(Boolean).join(", ") || "the whole shop"}
        {!p.on && " · off"}
      </p>
      <p className="m-0 text-sm">{p.to.length ? `to ${p.to.join(", ")}` : "only kept"}</p>
    </li>
  );
}

/** The page of a report, which needs nothing from outside. */
function Paper({ page, title }: { page: string; title: string }) {
  return <iframe title={title} sandbox="" srcDoc={page} className="h-[65vh] w-full rounded-md border border-rule bg-white" />;
}

function Preview({ plan, close }: { plan: ReportPlan; close: () => void }) {
  const found = useReportPreview(plan.id);
  const send = useChange(() => value(api.POST("/api/report/plans/{number}/send", { params: { path: { number: plan.id } } })).then(close), "reports");
  return (
    <Dialog open close={close} wide title={plan.name} text="What it says of the last period that is over. Nothing was sent.">
      {found.error ? <Failed error={found.error} /> : !found.data ? <Loading rows={6} /> : <Paper page={found.data.page} title="The report" />}
      <Refusal error={send.error} />
      <div className="flex justify-end gap-2">
        <Button kind="quiet" onClick={close}>
          Close
        </Button>
        <Button kind="strong" asked={send.isPending} onClick={() => send.mutate(undefined)}>
          {plan.to.length ? "Send it now" : "Keep it now"}
        </Button>
      </div>
    </Dialog>
  );
}

function Opened({ report, close }: { report: KeptReport; close: () => void }) {
  const found = useKeptReport(report.id);
  return (
    <Dialog open close={close} wide title={report.name}>
      {found.error ? <Failed error={found.error} /> : !found.data ? <Loading rows={6} /> : <Paper page={found.data.page} title="The report" />}
      <div className="flex justify-end gap-2">
        <a className="inline-flex min-h-9 items-center px-3.5 text-sm" href={`/api/report/kept/${report.id}/pdf`} target="_blank" rel="noreferrer">
          PDF, to print
        </a>
        <Button kind="strong" onClick={close}>
          Close
        </Button>
      </div>
    </Dialog>
  );
}

function Planned({ plan, close }: { plan?: ReportPlan; close: () => void }) {
  const machines = useMachines().data ?? [];
  const sites = [...new Set(machines.map((m) => m.site ?? ""))].filter(Boolean).sort();
  const groups = [...new Set(machines.flatMap((m) => m.tags ?? []))].sort();
  const [name, setName] = useState(plan?.name ?? "The week");
  const [every, setEvery] = useState<Every>(plan?.every ?? "week");
  const [hour, setHour] = useState(plan?.hour ?? 7);
  const [site, setSite] = useState(plan?.site ?? "");
  const [group, setGroup] = useState(plan?.group ?? "");
  const [to, setTo] = useState(plan?.to.join(", ") ?? "");
  const [on, setOn] = useState(plan?.on ?? true);
  const body = {
    name: name.trim(),
    every,
    hour,
    site,
    group,
    on,
    to: to
      .split(",")
      .map((one) => one.trim())
      .filter(Boolean),
  };
  const path = { number: plan?.id ?? 0 };
  const send = useChange(
    () => (plan ? value(api.PUT("/api/report/plans/{number}", { params: { path }, body })) : value(api.POST("/api/report/plans", { body }))).then(close),
    "reports",
  );
  const drop = useChange(() => value(api.DELETE("/api/report/plans/{number}", { params: { path } })).then(close), "reports");
  const pick = (label: string, all: string, names: string[], now: string, set: (name: string) => void) => (
    <Field label={label}>
      <select className={inputLook} value={now} onChange={(e) => set(e.target.value)}>
        <option value="">{all}</option>
        {[...new Set([...names, ...(now ? [now] : [])])].map((one) => (
          <option key={one}>{one}</option>
        ))}
      </select>
    </Field>
  );
  return (
    <FormDialog title={plan ? `Change ${plan.name}` : "Add a report"} close={close} send={() => send.mutate(undefined)} asked={send.isPending} error={send.error ?? drop.error} action={plan ? "Keep it" : "Add it"}>
      <Field label="Name">
        <input className={inputLook} required maxLength={60} autoFocus value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
      <div className="grid grid-cols-2 gap-3">
        <Field label="Comes">
          <select className={inputLook} value={every} onChange={(e) => setEvery(e.target.value as Every)}>
            {EVERY.map((one) => (
              <option key={one.value} value={one.value}>
                {one.name}
              </option>
            ))}
          </select>
        </Field>
        {every === "shift" ? (
          <span />
        ) : (
          <Field label="At, h" hint="of the day after">
            <input className={inputLook} type="number" min={0} max={23} value={hour} onChange={(e) => setHour(Number(e.target.value))} />
          </Field>
        )}
        {pick("Site", "all sites", sites, site, setSite)}
        {pick("Machines", "all machines", groups, group, setGroup)}
      </div>
      <Field label="To" hint="addresses, or logins of people who have a mail channel, with commas between">
        <input className={inputLook} value={to} onChange={(e) => setTo(e.target.value)} placeholder="maud, office@shop.example" />
      </Field>
      {plan && (
        <div className="flex items-center justify-between">
          <label className="flex items-center gap-2">
            <input type="checkbox" checked={on} onChange={(e) => setOn(e.target.checked)} /> it comes
          </label>
          <Button kind="quiet" asked={drop.isPending} onClick={() => drop.mutate(undefined)}>
            Drop it
          </Button>
        </div>
      )}
    </FormDialog>
  );
}
