import { Check, Minus } from "lucide-react";
import type { ReactNode } from "react";
import { Link, Navigate, useNavigate, useParams } from "react-router";

import { api, type FirstStep, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { MachinesSetup } from "../machines/machines-setup";
import { Spools } from "../machines/spools";
import { Channels } from "../notices/channels";
import { MailSetup } from "../notices/notices-setup";
import { Hours } from "../planning/hours";
import { useHours } from "../planning/queries";
import { BackupsSetup } from "./backups";
import { useFirstSteps } from "./queries";
import { ManyMachines } from "./setup-file";
import { ShopForm } from "./shop-form";

type Step = FirstStep["step"];

const NAMES: Record<Step, string> = { shop: "The shop", hours: "Hands", machines: "Machines", spools: "Spools", message: "A message", backups: "Backups" };
const WHY: Record<Step, string> = {
  shop: "Its name, and what times, dates and prices are written in.",
  hours: "The queue is planned around the hours when somebody is here to clear a bed. A site with machines can have hours of its own.",
  machines: "What kinds there are, and at which address each is reached. A machine takes work as soon as it answers.",
  spools: "The reels you have. A build that would run out is then seen before it starts.",
  message: "Something goes wrong when nobody looks at this page. Have one test message arrive where you are.",
  backups: "A disk dies one day. Records and files are copied each day, sealed, and tried each week.",
};
const END = "end";

/** A new shop is set up step by step; all can be left and found again, and each can be skipped. */
export function FirstStepsPage() {
  const steps = useFirstSteps();
  const { step } = useParams();
  const navigate = useNavigate();
  const change = useChange((body: { skip?: Step; take_up?: Step; over?: boolean }) => value(api.PATCH("/api/first-steps", { body })), "first-steps");
  if (steps.error) return <Failed error={steps.error} again={() => steps.refetch()} />;
  if (!steps.data) return <Loading />;
  const all = steps.data.steps;
  const here = all.find((s) => s.step === step);
  if (!here && step !== END) return <Navigate to={`/first-steps/${all.find((s) => s.standing === "open")?.step ?? END}`} replace />;
  const next = here ? (all[all.indexOf(here) + 1]?.step ?? END) : END;
  const go = (to: string) => void navigate(`/first-steps/${to}`);
  return (
    <Page title="First steps">
      <div className="grid gap-5 lg:grid-cols-[15rem_1fr] lg:items-start">
        <nav aria-label="Steps">
          <ol className="m-0 flex list-none flex-wrap gap-x-1 gap-y-1 p-0 lg:flex-col">
            {all.map((s, n) => (
              <li key={s.step}>
                <StepLink step={s} number={n + 1} here={s === here} />
              </li>
            ))}
            <li>
              <Link to={`/first-steps/${END}`} aria-current={here ? undefined : "step"} className={`${link} ${here ? "text-faded" : "bg-sunk font-semibold text-ink"}`}>
                <span className="w-6" aria-hidden />
                What is open
              </Link>
            </li>
          </ol>
        </nav>
        <div className="flex max-w-3xl min-w-0 flex-col gap-5">
          {here ? (
            <>
              <div>
                <h2 className="m-0 text-xl font-semibold">{NAMES[here.step]}</h2>
                <p className="mt-1 mb-0 text-faded">{WHY[here.step]}</p>
              </div>
              <Body step={here.step} done={() => go(next)} />
              <div className="flex flex-wrap items-center justify-end gap-2">
                <Refusal error={change.error} />
                {here.standing === "open" && (
                  <Button kind="quiet" asked={change.isPending} onClick={() => change.mutate({ skip: here.step }, { onSuccess: () => go(next) })}>
                    Skip this
                  </Button>
                )}
                {(here.standing !== "open" || here.step !== "shop") && (
                  <Button kind={here.standing === "open" ? "plain" : "strong"} onClick={() => go(next)}>
                    {next === END ? "What is open" : `Next: ${NAMES[next as Step]}`}
                  </Button>
                )}
              </div>
            </>
          ) : (
            <End all={all} over={steps.data.over} set={(over) => change.mutate({ over }, { onSuccess: () => over && void navigate("/") })} asked={change.isPending} />
          )}
        </div>
      </div>
    </Page>
  );
}

const link = "flex min-h-10 items-center gap-2.5 rounded-md px-3 no-underline hover:bg-sunk";

function StepLink({ step: s, number, here }: { step: FirstStep; number: number; here: boolean }) {
  return (
    <Link to={`/first-steps/${s.step}`} aria-current={here ? "step" : undefined} className={`${link} ${here ? "bg-sunk font-semibold text-ink" : "text-ink"}`}>
      <span className={`grid h-6 w-6 flex-none place-items-center rounded-full border text-xs ${s.standing === "done" ? "border-ink bg-ink text-ground" : "border-rule text-faded"}`} aria-hidden>
        {s.standing === "done" ? <Check size={14} /> : s.standing === "skipped" ? <Minus size={14} /> : number}
      </span>
      {NAMES[s.step]}
      <span className="sr-only">: {s.standing}</span>
    </Link>
  );
}

function Body({ step, done }: { step: Step; done: () => void }) {
  const body: Record<Step, () => ReactNode> = {
    shop: () => (
      <Sheet className="pt-5">
        <ShopForm kept={done} action="Set, and go on" />
      </Sheet>
    ),
    hours: () => <HoursStep />,
    machines: () => <MachinesSetup many={<ManyMachines />} />,
    spools: () => <Spools />,
    message: () => (
      <>
        <Channels whose="mine" />
        <MailSetup />
      </>
    ),
    backups: () => <BackupsSetup />,
  };
  return body[step]();
}

function HoursStep() {
  const hours = useHours();
  return <Sheet className="pt-4">{hours.error ? <Failed error={hours.error} /> : hours.data ? <Hours all={hours.data} /> : <Loading rows={12} height="h-9" />}</Sheet>;
}

function End({ all, over, set, asked }: { all: FirstStep[]; over: boolean; set: (over: boolean) => void; asked: boolean }) {
  const open = all.filter((s) => s.standing !== "done");
  return (
    <Sheet>
      <SheetTitle>{open.length ? "What is open" : "The shop is set up"}</SheetTitle>
      {open.length === 0 ? (
        <Empty title="Nothing is open">
          Add a sliced file to <Link to="/library">the library</Link>, queue it, and the first machine that can make it begins.
        </Empty>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {open.map((s) => (
            <li key={s.step} className="flex flex-wrap items-baseline justify-between gap-x-4 px-5 py-2.5">
              <span>
                {NAMES[s.step]} <span className="text-sm text-faded">{s.standing === "skipped" ? "skipped" : "not done yet"}</span>
              </span>
              <Link to={`/first-steps/${s.step}`}>Do it now</Link>
            </li>
          ))}
        </ul>
      )}
      {all.some((s) => s.standing === "done") && (
        <dl className="m-0 border-t border-rule px-5 py-3 text-sm">
          {all
            .filter((s) => s.standing === "done")
            .map((s) => (
              <div key={s.step} className="grid grid-cols-[8rem_1fr] gap-x-4 py-1">
                <dt className="text-faded">{NAMES[s.step]}</dt>
                <dd className="m-0 min-w-0 break-words">{s.told}</dd>
              </div>
            ))}
        </dl>
      )}
      <div className="flex flex-wrap items-center justify-between gap-3 border-t border-rule px-5 py-3">
        <span className="text-sm text-faded">All of this stays in Set-up.</span>
        <Button kind="strong" asked={asked} onClick={() => set(true)}>
          {over ? "To the board" : "That will do: to the board"}
        </Button>
      </div>
    </Sheet>
  );
}
