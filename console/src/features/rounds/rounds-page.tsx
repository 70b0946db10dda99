import { useState } from "react";
import { Link } from "react-router";

import { api, type RoundTask, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useMachines, useSpools } from "../machines/queries";
import { DoneDialog } from "../upkeep/done-dialog";
import { useDue } from "../upkeep/queries";
import { useRounds } from "./queries";
import { sentPicture } from "../../api/picture";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { Failed, Loading, Page, Refusal, Sheet } from "../../ui/page";
import { HelperDialog } from "./helper";
import { type Judged, Tasks } from "./tasks";

export function RoundsPage() {
  const [site, setSite] = useState<string | null>(null);
  const [helper, setHelper] = useState(false);
  const rounds = useRounds(site);
  const machines = useMachines().data ?? [];
  const sites = [...new Set(machines.map((m) => m.site ?? ""))].filter(Boolean).sort();
  const judge = useChange(judged, "plan", "jobs", "builds", "orders");
  return (
    <Page
      title="Rounds"
      beside={
        <div className="flex flex-wrap items-center gap-3">
          {sites.length > 1 && (
            <select
              aria-label="Site"
              className="min-h-10 rounded-md border border-rule bg-sheet px-3 text-ink"
              value={site ?? ""}
              onChange={(e) => setSite(e.target.value || null)}
            >
              <option value="">all sites</option>
              {sites.map((s) => (
                <option key={s}>{s}</option>
              ))}
            </select>
          )}
          <Link to="/upkeep" className="text-faded">
            Upkeep
          </Link>
          <Button needs="judge" onClick={() => setHelper(true)}>Helper's link…</Button>
        </div>
      }
    >
      <div className="mx-auto max-w-2xl">
        {rounds.error ? (
          <Sheet>
            <Failed error={rounds.error} again={() => rounds.refetch()} />
          </Sheet>
        ) : !rounds.data ? (
          <Sheet>
            <Loading />
          </Sheet>
        ) : (
          <Tasks rounds={rounds.data} judge={(j) => judge.mutateAsync(j)} deed={(t) => <Deed task={t} />} />
        )}
      </div>
      {helper && <HelperDialog sites={sites} close={() => setHelper(false)} />}
    </Page>
  );
}

/** A verdict, with the picture first, so that it is there when the verdict is. */
async function judged(j: Judged) {
  if (j.photo) {
    await value(api.PUT("/api/builds/{number}/photo", sentPicture({ number: j.build }, j.photo)));
  }
  return value(
    api.POST("/api/builds/{number}/verdict", {
      params: { path: { number: j.build } },
      body: { verdict: j.verdict, reason: j.reason, good: j.good },
    }),
  );
}

/** What else can be done about a task here: load what it asks for, start it, go and look. */
function Deed({ task: t }: { task: RoundTask }) {
  const [loading, setLoading] = useState(false);
  const start = useChange(
    () => value(api.POST("/api/machines/{name}/start-next", { params: { path: { name: t.machine } } })),
    "plan",
    "jobs",
  );
  const big = "min-h-12 flex-1 text-base";
  if (t.kind === "load")
    return (
      <>
        <Button needs="operate" at={t.machine} kind="strong" className={big} onClick={() => setLoading(true)}>
          It is loaded…
        </Button>
        {loading && <Load task={t} close={() => setLoading(false)} />}
      </>
    );
  if (t.kind === "start")
    return (
      <>
        <Button needs="operate" at={t.machine} kind="strong" className={big} asked={start.isPending} onClick={() => start.mutate(undefined)}>
          Start it
        </Button>
        <Refusal error={start.error} />
      </>
    );
  if (t.kind === "upkeep" && t.upkeep)
    return (
      <>
        <Button needs="operate" at={t.machine} kind="strong" className={big} onClick={() => setLoading(true)}>
          {t.upkeep.check ? "Measured…" : "Done…"}
        </Button>
        {loading && <UpkeepDeed task={t} close={() => setLoading(false)} />}
      </>
    );
  if (t.kind === "nozzle") return <NozzleDeed task={t} big={big} />;
  if (t.kind === "look" || t.kind === "fix")
    return (
      <Link
        to={`/machines/${encodeURIComponent(t.machine)}`}
        className={`inline-flex items-center justify-center rounded-md border border-rule px-4 text-ink no-underline ${big}`}
      >
        Open {t.machine}
      </Link>
    );
  return null;
}

function UpkeepDeed({ task: t, close }: { task: RoundTask; close: () => void }) {
  const due = useDue(t.machine).data?.find((one) => one.task === t.upkeep?.task);
  return due ? <DoneDialog machine={t.machine} due={due} close={close} /> : null;
}

/** Which spool was put on: those that fit what is asked for, the fullest first. */
function Load({ task: t, close }: { task: RoundTask; close: () => void }) {
  const spools = useSpools().data ?? [];
  const load = useChange(
    (spool: number) =>
      value(api.POST("/api/spools/{number}/load", { params: { path: { number: spool } }, body: { machine: t.machine, tool: 0 } })).then(close),
    "setup",
    "plan",
    "jobs",
  );
  const wanted = (t.next?.load ?? "").toLowerCase();
  const fits = spools
    .filter((s) => !s.machine && `${s.colour} ${s.material}`.trim().toLowerCase() === wanted)
    .sort((a, b) => b.grams_left - a.grams_left);
  return (
    <Dialog open close={close} title={`${t.machine}: which spool?`} text={`${t.next?.load ?? "A spool"} is asked for.`}>
      {fits.length === 0 && <p className="m-0 text-faded">No such spool is on the shelf; add it in Set-up.</p>}
      {fits.map((s) => (
        <Button key={s.id} className="min-h-12 justify-between text-base" asked={load.isPending} onClick={() => load.mutate(s.id)}>
          <span>
            Spool {s.id}, {s.colour} {s.material}
          </span>
          <span className="text-faded">
            {s.grams_left.toFixed(0)} g{s.place && ` · ${s.place}`}
          </span>
        </Button>
      ))}
      <Refusal error={load.error} />
      <Button kind="quiet" onClick={close}>
        Not yet
      </Button>
    </Dialog>
  );
}

function NozzleDeed({ task: t, big }: { task: RoundTask; big: string }) {
  const machine = (useMachines().data ?? []).find((m) => m.name === t.machine);
  const { nozzle_mm, hardened } = t.next ?? {};
  const change = useChange(
    () =>
      value(
        api.PATCH("/api/machines/{name}", {
          params: { path: { name: t.machine } },
          body: { tools: (machine?.tools ?? []).map((tool, n) => (n === 0 ? { ...tool, nozzle_mm: nozzle_mm!, hardened: !!hardened } : tool)) },
        }),
      ),
    "plan",
    "jobs",
    "machine",
  );
  return (
    <>
      <Button kind="strong" className={big} disabled={!machine || !nozzle_mm} asked={change.isPending} onClick={() => change.mutate(undefined)}>
        It is on
      </Button>
      <Refusal error={change.error} />
    </>
  );
}
