import { useState } from "react";
import { Link } from "react-router";

import { value, api } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Empty, Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { StateMark } from "../../ui/state";
import { useMe } from "../access/queries";
import { ModelDialog } from "./model-dialog";
import { useMachines, useModels, useTenders } from "./queries";

const NEW = "a new model…";

/** The machines there are: where each is reached, and whether it answers. */
export function MachinesSetup({ title = "Machines" }: { title?: string }) {
  const machines = useMachines();
  const [adding, setAdding] = useState(false);
  const rows = [...(machines.data ?? [])].sort((a, b) => a.name.localeCompare(b.name));
  const add = (
    <Button kind={rows.length ? "plain" : "strong"} onClick={() => setAdding(true)}>
      Add a machine…
    </Button>
  );
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={rows.length > 0 && `${rows.length}`}>{title}</SheetTitle>
      {machines.error ? (
        <Failed error={machines.error} again={() => machines.refetch()} />
      ) : machines.isPending ? (
        <Loading rows={3} height="h-11" />
      ) : rows.length === 0 ? (
        <Empty title="No machine yet">
          A machine is added by the address at which it is reached.
          <div className="mt-4">{add}</div>
        </Empty>
      ) : (
        <>
          <ul className="m-0 max-h-96 list-none divide-y divide-rule overflow-auto p-0">
            {rows.map((m) => (
              <li key={m.name} className="grid grid-cols-[1fr_auto] items-baseline gap-x-4 px-5 py-2">
                <span className="min-w-0">
                  <Link to={`/machines/${m.name}`} className="text-inherit no-underline hover:underline">
                    {m.name}
                  </Link>{" "}
                  <span className="text-sm text-faded">{[m.model, m.site, m.place].filter(Boolean).join(" · ")}</span>
                </span>
                <StateMark state={m.state} />
                {m.state === "offline" && <span className="col-span-2 text-sm text-faded">{m.reason || "It does not answer yet."}</span>}
              </li>
            ))}
          </ul>
          <div className="border-t border-rule px-5 py-3">{add}</div>
        </>
      )}
      {adding && <AddMachine close={() => setAdding(false)} />}
    </Sheet>
  );
}

function AddMachine({ close }: { close: () => void }) {
  const maintains = useMe().data?.scope === "maintain";
  const models = useModels().data ?? [];
  const tenders = useTenders().data ?? [];
  const [asked, setAsked] = useState({ name: "", link: "tcp://", model: "", tender: "", site: "", place: "", nozzle: "0.4", hardened: false });
  const [making, setMaking] = useState(false);
  const set = (change: Partial<typeof asked>) => setAsked({ ...asked, ...change });
  const model = asked.model || models[0]?.name || "";
  const tender = asked.tender || tenders.find((t) => t.since)?.name || tenders[0]?.name || "tender";
  const add = useChange(
    () =>
      value(
        api.POST("/api/machines", {
          params: { query: { tender } },
          body: {
            name: asked.name.trim(), link: asked.link.trim(), model, intake: "open", site: asked.site.trim(), place: asked.place.trim(),
            tools: [{ number: 0, nozzle_mm: Number(asked.nozzle), hardened: asked.hardened, material: "", colour: "" }],
          },
        }),
      ).then(close),
    "machines", "machine", "plan", "first-steps",
  );
  return (
    <>
      <FormDialog
        title="Add a machine"
        text="It is reached at its address from the tender's computer, and shows up as soon as it answers."
        close={close}
        send={() => add.mutate(undefined)}
        asked={add.isPending}
        error={add.error}
        action="Add it"
      >
        <Field label="Name">
          <input className={inputLook} autoFocus value={asked.name} onChange={(e) => set({ name: e.target.value })} required maxLength={60} autoComplete="off" />
        </Field>
        <Field label="Address" hint="tcp://HOST:PORT, serial:///dev/serial/by-id/…?speed=115200, rfc2217://HOST:PORT">
          <input className={`${inputLook} font-mono text-sm`} value={asked.link} onChange={(e) => set({ link: e.target.value })} required maxLength={300} spellCheck={false} autoComplete="off" />
        </Field>
        <Field label="Model" hint={models.length ? undefined : "What machines of one make have in common. There is none yet: begin with what yours is."}>
          <select className={inputLook} value={model} required onChange={(e) => (e.target.value === NEW ? setMaking(true) : set({ model: e.target.value }))}>
            {models.length === 0 && <option value="">none yet</option>}
            {models.map((m) => (
              <option key={m.name}>{m.name}</option>
            ))}
            {maintains && <option>{NEW}</option>}
          </select>
        </Field>
        <div className="grid grid-cols-2 gap-3">
          <Field label="Nozzle, mm">
            <input className={inputLook} type="number" min={0.05} max={3} step="any" value={asked.nozzle} onChange={(e) => set({ nozzle: e.target.value })} required />
          </Field>
          <label className="flex items-center gap-2 self-end pb-2.5 text-sm">
            <input type="checkbox" checked={asked.hardened} onChange={(e) => set({ hardened: e.target.checked })} />
            hardened
          </label>
          <Field label="Site" hint="With hours of its own.">
            <input className={inputLook} value={asked.site} onChange={(e) => set({ site: e.target.value })} maxLength={60} />
          </Field>
          <Field label="Place" hint="The rounds walk by it.">
            <input className={inputLook} value={asked.place} onChange={(e) => set({ place: e.target.value })} placeholder="A2" maxLength={40} />
          </Field>
        </div>
        {tenders.length > 1 && (
          <Field label="Minded by">
            <select className={inputLook} value={tender} onChange={(e) => set({ tender: e.target.value })}>
              {tenders.map((t) => (
                <option key={t.name} value={t.name}>
                  {t.name}
                  {t.since ? "" : " (away)"}
                </option>
              ))}
            </select>
          </Field>
        )}
      </FormDialog>
      {making && <ModelDialog close={() => setMaking(false)} made={(name) => set({ model: name })} />}
    </>
  );
}
