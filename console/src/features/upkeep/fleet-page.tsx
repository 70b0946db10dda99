import { useState } from "react";
import { Link } from "react-router";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Empty, Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { type FleetOfModel, useFleetState } from "./queries";
import { UpkeepLinks } from "./upkeep-links";

/** The firmware of each machine, who is behind, and stored settings that are not the same on all machines of a model. */
export function FleetPage() {
  const fleet = useFleetState();
  return (
    <Page title="Upkeep" beside={<UpkeepLinks />}>
      {fleet.error ? (
        <Sheet>
          <Failed error={fleet.error} again={() => fleet.refetch()} />
        </Sheet>
      ) : !fleet.data ? (
        <Sheet>
          <Loading rows={6} />
        </Sheet>
      ) : fleet.data.length === 0 ? (
        <Sheet>
          <Empty title="There are no machines yet">Add one; it says itself what it is.</Empty>
        </Sheet>
      ) : (
        fleet.data.map((one) => <Model key={one.model} model={one} />)
      )}
    </Page>
  );
}

const words = (names: string[]) => names.map((name) => name.toLowerCase().replaceAll("_", " ")).join(", ");

const cell = "px-3 py-2 text-left align-top first:pl-5 last:pr-5";

function Model({ model: m }: { model: FleetOfModel }) {
  const now = useNow(60_000);
  const [wanting, setWanting] = useState(false);
  const ask = useChange(() => value(api.POST("/api/fleet-state/settings", { params: { query: { model: m.model } } })), "machine");
  const behind = m.machines.filter((one) => one.behind).length;
  const told = m.machines.filter((one) => one.settings_told_at);
  return (
    <Sheet className="mb-5 min-w-0">
      <SheetTitle
        beside={
          <span>
            {m.wanted ? (
              <>
                wanted: <span className="text-ink">{m.wanted}</span>
                {behind > 0 && <span className="text-alarm"> · {behind === 1 ? "1 is behind" : `${behind} are behind`}</span>}
              </>
            ) : (
              "any firmware will do"
            )}{" "}
            <button type="button" className="ml-2 underline" onClick={() => setWanting(true)}>
              Change
            </button>
          </span>
        }
      >
        {m.model}
      </SheetTitle>
      <div className="overflow-x-auto">
        <table className="w-full min-w-[44rem] table-fixed border-collapse text-sm">
          <thead className="text-faded">
            <tr className="border-b border-rule">
              {["Machine", "Firmware", "Since", "Says what it can do", "Settings told"].map((name) => (
                <th key={name} className={`${cell} font-medium`}>
                  {name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {m.machines.map((one) => (
              <tr key={one.machine} className="border-b border-rule last:border-0">
                <td className={cell}>
                  <Link to={`/machines/${one.machine}`} className="font-semibold">
                    {one.machine}
                  </Link>{" "}
                  <span className="text-faded">{one.site}</span>
                </td>
                <td className={cell}>
                  {one.firmware || <span className="text-faded">not said yet</span>}
                  {one.behind && <span className="ml-2 rounded bg-alarm-wash px-1.5 py-0.5 text-alarm">behind</span>}
                </td>
                <td className={cell}>{one.since ? when(one.since, now) : ""}</td>
                <td className={cell}>
                  {words(one.can)}
                  {one.cannot.length > 0 && <span className="block text-faded">not: {words(one.cannot)}</span>}
                </td>
                <td className={cell}>{one.settings_told_at ? when(one.settings_told_at, now) : <span className="text-faded">never asked</span>}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="border-t border-rule px-5 py-3">
        <div className="flex flex-wrap items-center justify-between gap-3">
          <span className="text-sm">
            {told.length === 0
              ? "No machine was asked yet what it has stored."
              : m.different.length === 0
                ? `All ${m.same} stored values are the same on ${told.length === 1 ? told[0]!.machine : `all ${told.length} that told`}.`
                : `${m.different.length === 1 ? "1 stored value is" : `${m.different.length} stored values are`} not the same on all; ${m.same} are.`}
          </span>
          <Button asked={ask.isPending} onClick={() => ask.mutate(undefined)} title="Machines with nothing to do are asked">
            Ask what they have stored
          </Button>
        </div>
        <Refusal error={ask.error} />
        {ask.data != null && (ask.data as { not_asked: { machine: string; why: string }[] }).not_asked.length > 0 && (
          <p className="mt-2 mb-0 text-sm text-faded">
            Not asked: {(ask.data as { not_asked: { machine: string; why: string }[] }).not_asked.map((one) => `${one.machine} (${one.why})`).join("; ")}.
          </p>
        )}
      </div>
      {m.different.length > 0 && (
        <div className="overflow-x-auto pb-3">
          <table className="w-full border-collapse text-sm">
            <thead className="text-faded">
              <tr className="border-y border-rule">
                <th className={`${cell} font-medium`}>Setting</th>
                {told.map((one) => (
                  <th key={one.machine} className={`${cell} font-medium`}>
                    {one.machine}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {m.different.map((row) => (
                <tr key={row.name} className="border-b border-rule last:border-0">
                  <td className={cell}>
                    <span className="font-medium">{row.name}</span> <span className="text-faded">{row.meaning}</span>
                  </td>
                  {told.map((one) => {
                    const found = row.values.find((v) => v.machine === one.machine);
                    const odd = row.usual != null && found?.value !== row.usual;
                    return (
                      <td key={one.machine} className={`${cell} ${odd ? "font-semibold text-alarm" : ""}`}>
                        {found?.value ?? "none"}
                        {odd && found && <span className="block font-normal text-faded">since {when(found.since, now)}</span>}
                      </td>
                    );
                  })}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {wanting && <Want model={m} close={() => setWanting(false)} />}
    </Sheet>
  );
}

function Want({ model: m, close }: { model: FleetOfModel; close: () => void }) {
  const said = [...new Set(m.machines.map((one) => one.firmware).filter(Boolean))].sort();
  const [firmware, setFirmware] = useState(m.wanted || said.at(-1) || "");
  const set = useChange(() => value(api.PUT("/api/fleet-state/firmware", { body: { model: m.model, firmware: firmware.trim() } })).then(close), "machine", "setup");
  return (
    <FormDialog title={`Firmware for ${m.model}`} text="As the machines say it; without any, all will do." close={close} send={() => set.mutate(undefined)} asked={set.isPending} error={set.error} action="Keep it">
      <Field label="Wanted">
        <input className={inputLook} list="firmware-said" maxLength={200} autoFocus value={firmware} onChange={(e) => setFirmware(e.target.value)} />
      </Field>
      <datalist id="firmware-said">
        {said.map((one) => (
          <option key={one} value={one} />
        ))}
      </datalist>
    </FormDialog>
  );
}
