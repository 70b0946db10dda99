import { useState } from "react";

import { api, type Key, type Right, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { HandedOnce } from "./handed-once";
import { useMay } from "../../api/may";
import { useKeys, useRights, useRoles } from "./queries";
import { RightChoice } from "./roles-sheet";
import { placeWords } from "./words";

/** Keys for programs: one's own, or all of the shop's. `mine`: whose name one's own bear. */
export function KeysSheet({ mine }: { mine?: string }) {
  const keys = useKeys();
  const rights = useRights();
  const roles = useRoles();
  const [making, setMaking] = useState(false);
  const [secret, setSecret] = useState("");
  const [revoking, setRevoking] = useState<Key | null>(null);
  const change = useChange(
    async (key: number) => setSecret((await value(api.POST("/api/keys/{key}/change", { params: { path: { key } }, body: { overlap_hours: 24 } }))).secret),
    "people",
  );
  const rows = keys.data?.filter((k) => !k.revoked && (mine === undefined || k.owner === mine));
  const words = (right: Right) => rights.data?.find((one) => one.right === right)?.words ?? right;
  /** A set of rights that is a role's is told by its name. */
  const may = (k: Key) => roles.data?.find((role) => role.rights.join() === k.rights.join())?.name ?? `may ${k.rights.map(words).join(", ")}`;
  const now = new Date();
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={<Button onClick={() => setMaking(true)}>Make a key…</Button>}>{mine === undefined ? "Keys for programs" : "Your keys for programs"}</SheetTitle>
      {keys.error ? (
        <Failed error={keys.error} again={() => keys.refetch()} />
      ) : !rows ? (
        <Loading rows={2} height="h-14" />
      ) : rows.length === 0 ? (
        <p className="m-0 px-5 pb-4 text-faded">No key yet. A program shows one to do what its rights say, and no more.</p>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {rows.map((k) => (
            <li key={k.id} className="flex flex-wrap items-start justify-between gap-x-4 px-5 py-2.5">
              <span className="min-w-0">
                <span className="font-medium">{k.name}</span> <span className="text-sm text-faded">{mine === undefined ? `of ${k.owner || "the shop"}` : ""}</span>
                <span className="block text-sm text-faded">
                  {may(k)}
                  {k.places?.some((p) => p.kind !== "shop") && `, for ${k.places.map(placeWords).join(" and ")}`}
                </span>
                <span className="block text-sm text-faded">
                  {k.last_at ? `last used ${when(k.last_at, now)}` : "never used"}
                  {k.expires_at && `; until ${when(k.expires_at, now)}`}
                  {k.old_until && k.old_until > now.toISOString() && `; the secret before until ${when(k.old_until, now)}`}
                </span>
              </span>
              <span className="-ml-3.5 flex shrink-0 sm:ml-0">
                <Button kind="quiet" aria-label={`New secret for ${k.name}`} onClick={() => change.mutate(k.id)}>
                  New secret…
                </Button>
                <Button kind="quiet" aria-label={`Revoke ${k.name}`} onClick={() => setRevoking(k)}>
                  Revoke…
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {change.error && (
        <div className="px-5 pb-4">
          <Refusal error={change.error} />
        </div>
      )}
      {making && <KeyDialog own={mine !== undefined} made={setSecret} close={() => setMaking(false)} />}
      {secret && <HandedOnce title="The key's secret" label="Give it to the program" what={secret} hint="It is shown this once. A secret before it opens for a day more." close={() => setSecret("")} />}
      {revoking && <Revoke one={revoking} close={() => setRevoking(null)} />}
    </Sheet>
  );
}

function Revoke({ one, close }: { one: Key; close: () => void }) {
  const revoke = useChange(() => value(api.DELETE("/api/keys/{key}", { params: { path: { key: one.id } } })).then(close), "people");
  return (
    <FormDialog title={`Revoke ${one.name}?`} text="What uses it is let in no more, from now on. Nothing undoes that." close={close} send={() => revoke.mutate(undefined)} asked={revoke.isPending} error={revoke.error} action="Revoke" kind="danger">
      {null}
    </FormDialog>
  );
}

function KeyDialog({ own, made, close }: { own: boolean; made: (secret: string) => void; close: () => void }) {
  const roles = useRoles().data ?? [];
  const may = useMay();
  const [name, setName] = useState("");
  const [role, setRole] = useState(own ? "" : "operator");
  const [rights, setRights] = useState<Right[]>(["see"]);
  const [days, setDays] = useState("");
  const make = useChange(async () => {
    const asked = { name, own, role: role || null, rights: role ? null : rights, days: days ? Number(days) : null, places: [] };
    const done = await value(api.POST("/api/keys", { body: asked }));
    close();
    made(done.secret);
  }, "people");
  return (
    <FormDialog
      title={own ? "Make a key of your own" : "Make a key of the shop"}
      text={own ? "It may do no more than you may, and goes when you leave." : "It belongs to nobody, and stays when people leave."}
      close={close}
      send={() => make.mutate(undefined)}
      asked={make.isPending}
      error={make.error}
      action="Make it"
    >
      <Field label="What it is for">
        <input className={inputLook} autoFocus required maxLength={80} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
      <Field label="May do what">
        <select className={inputLook} value={role} onChange={(e) => setRole(e.target.value)}>
          <option value="">what is ticked below</option>
          {roles
            .filter((one) => one.name !== "tender" || (!own && may("set_up") === null))
            .map((one) => (
              <option key={one.name} value={one.name}>
                what a {one.name} may
              </option>
            ))}
        </select>
      </Field>
      {!role && <RightChoice had={rights} set={setRights} />}
      <Field label="Good for, days" hint="Empty: until it is revoked.">
        <input className={inputLook} type="number" min={1} max={3650} value={days} onChange={(e) => setDays(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
