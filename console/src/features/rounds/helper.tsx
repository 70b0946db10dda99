import { useState } from "react";

import { api, type CreatedHelper, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useHelpers } from "./queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Refusal } from "../../ui/page";

/** Make a link for somebody without an account, and revoke those that were handed on. */
export function HelperDialog({ sites, close }: { sites: string[]; close: () => void }) {
  const [name, setName] = useState("");
  const [site, setSite] = useState(sites[0] ?? "");
  const [hours, setHours] = useState(12);
  const [made, setMade] = useState<CreatedHelper | null>(null);
  const now = useNow(30_000);
  const helpers = useHelpers();
  const make = useChange(
    async () => setMade(await value(api.POST("/api/helpers", { body: { name, site, hours } }))),
    "setup",
  );
  const revoke = useChange((id: number) => value(api.DELETE("/api/helpers/{number}", { params: { path: { number: id } } })), "setup");
  const good = (helpers.data ?? []).filter((h) => !h.revoked && !h.expired);
  const address = made ? window.location.origin + made.address : "";
  return (
    <Dialog
      open
      close={close}
      title="A helper's link"
      text="It shows the rounds of one site, and nothing else, to whoever has it: parts can be lifted off and judged."
    >
      {made ? (
        <>
          <Field label="Hand this address on" hint={`Good until ${when(made.expires_at, now)}. It is shown this once.`}>
            <input className={inputLook} readOnly value={address} onFocus={(e) => e.target.select()} />
          </Field>
          <div className="flex justify-end gap-2">
            <Button onClick={() => void navigator.clipboard.writeText(address)}>Copy</Button>
            <Button kind="strong" onClick={close}>
              Done
            </Button>
          </div>
        </>
      ) : (
        <form
          className="flex flex-col gap-4"
          onSubmit={(e) => {
            e.preventDefault();
            make.mutate(undefined);
          }}
        >
          <Field label="For whom">
            <input className={inputLook} autoFocus value={name} maxLength={80} onChange={(e) => setName(e.target.value)} />
          </Field>
          <div className="grid grid-cols-2 gap-4">
            <Field label="Site">
              <select className={inputLook} value={site} onChange={(e) => setSite(e.target.value)}>
                {sites.length === 0 && <option value="">the shop</option>}
                {sites.map((s) => (
                  <option key={s}>{s}</option>
                ))}
              </select>
            </Field>
            <Field label="Good for, hours">
              <input className={inputLook} type="number" min={1} max={744} value={hours} onChange={(e) => setHours(Number(e.target.value))} />
            </Field>
          </div>
          <Refusal error={make.error} />
          <div className="flex justify-end gap-2">
            <Button kind="quiet" onClick={close}>
              Cancel
            </Button>
            <Button kind="strong" type="submit" asked={make.isPending} disabled={!name.trim()}>
              Make the link
            </Button>
          </div>
        </form>
      )}
      {good.length > 0 && (
        <ul className="m-0 list-none border-t border-rule p-0 pt-3">
          {good.map((h) => (
            <li key={h.id} className="flex items-center justify-between gap-3 py-1">
              <span>
                {h.name} <span className="text-sm text-faded">{[h.site, `until ${when(h.expires_at, now)}`].filter(Boolean).join(", ")}</span>
              </span>
              <Button kind="danger" asked={revoke.isPending && revoke.variables === h.id} onClick={() => revoke.mutate(h.id)}>
                Revoke
              </Button>
            </li>
          ))}
        </ul>
      )}
      <Refusal error={revoke.error} />
    </Dialog>
  );
}
