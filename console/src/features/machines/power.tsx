import { Power as PowerIcon } from "lucide-react";
import { useState } from "react";

import { api, CallFailed, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Fact, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { PlugDialog } from "./plug-dialog";
import { useEnergy, usePlug, wh } from "./power-queries";

/** What the machine draws, and its switch. What must not be turned off is turned off with a reason only. */
export function Power({ machine: m }: { machine: MachineDetail }) {
  const now = useNow(60_000);
  const [forcing, setForcing] = useState(false);
  const [changing, setChanging] = useState(false);
  const plug = usePlug(m.name, m.power != null).data;
  const today = now.toISOString().slice(0, 10);
  const energy = useEnergy({ by: "state", machine: m.name, begin: today, end: today }, m.power != null).data;
  const turn = useChange(
    (wish: { on: boolean; force?: boolean; reason?: string }) =>
      value(api.POST("/api/machines/{name}/power", { params: { path: { name: m.name } }, body: { force: false, reason: "", ...wish } })),
    "machine",
    "plugs",
  );
  if (!m.power) return null;
  const { on, watts, trouble } = m.power;
  const refused = turn.error instanceof CallFailed && turn.error.status === 409 && turn.variables?.on === false;
  const drawn = (energy ?? []).reduce((sum, row) => sum + row.wh, 0);
  return (
    <Sheet>
      <SheetTitle
        beside={
          <button type="button" className="underline" onClick={() => setChanging(true)}>
            Plug
          </button>
        }
      >
        Power
      </SheetTitle>
      <div className="px-5 pb-4">
        <div className="mb-2 flex items-center justify-between gap-4">
          <span>
            {trouble ? (
              <span className="text-alarm">The plug says nothing: {trouble}</span>
            ) : (
              <>
                <span className="font-serif text-3xl font-semibold">{on === null ? "–" : on ? (watts == null ? "on" : `${watts.toFixed(0)} W`) : "off"}</span>
                {on === false && plug?.off_by_itself && <span className="ml-3 text-sm text-faded">there was nothing to do; it goes on before its next build</span>}
              </>
            )}
          </span>
          {!trouble && on !== null && (
            <Button asked={turn.isPending} onClick={() => turn.mutate({ on: !on })}>
              <PowerIcon size={16} aria-hidden /> Turn {on ? "off" : "on"}
            </Button>
          )}
        </div>
        <Refusal error={turn.error} />
        {refused && (
          <p className="mt-2 mb-0 text-sm">
            <button type="button" className="text-alarm underline" onClick={() => setForcing(true)}>
              Turn it off all the same…
            </button>
          </p>
        )}
        {energy && (
          <dl className="mt-2 mb-0">
            <Fact name="Today">
              {wh(drawn)}
              {energy.length > 1 && (
                <span className="block text-sm text-faded">
                  {[...energy]
                    .sort((a, b) => b.wh - a.wh)
                    .slice(0, 3)
                    .map((row) => `${row.state} ${wh(row.wh)}`)
                    .join(", ")}
                </span>
              )}
            </Fact>
          </dl>
        )}
      </div>
      {forcing && <Force machine={m} send={(reason) => turn.mutateAsync({ on: false, force: true, reason }).then(() => setForcing(false))} asked={turn.isPending} error={turn.error} close={() => setForcing(false)} />}
      {changing && plug && <PlugDialog plug={plug} close={() => setChanging(false)} />}
    </Sheet>
  );
}

function Force(props: { machine: MachineDetail; send: (reason: string) => Promise<unknown>; asked: boolean; error: Error | null; close: () => void }) {
  const [reason, setReason] = useState("");
  const builds = props.machine.build && !props.machine.build.outcome;
  return (
    <FormDialog
      title={`Turn ${props.machine.name} off now?`}
      text={builds ? "Its build is lost, and what is hot cools without a fan. The reason is recorded." : "What is hot cools without a fan. The reason is recorded."}
      close={props.close}
      send={() => void props.send(reason).catch(() => undefined)}
      asked={props.asked}
      error={null}
      action="Turn it off"
      kind="danger"
    >
      <Field label="Why">
        <input autoFocus required maxLength={300} className={inputLook} value={reason} onChange={(e) => setReason(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
