import { useState } from "react";

import { api, type CreatedInvite, type HeldRole, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { HandedOnce } from "./handed-once";
import { HeldRoles } from "./held-roles";
import { TeamChoice } from "./people-sheet";
import { useInvites } from "./queries";
import { roleWords } from "./words";

/** The invites that still let somebody in; not there while there are none. */
export function InvitesSheet() {
  const invites = useInvites();
  const back = useChange((number: number) => value(api.DELETE("/api/invites/{number}", { params: { path: { number } } })), "people");
  if (!invites.data?.length) return null;
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={`${invites.data.length} open`}>Invites</SheetTitle>
      <ul className="m-0 list-none divide-y divide-rule p-0">
        {invites.data.map((one) => (
          <li key={one.id} className="flex items-center justify-between gap-4 px-5 py-2.5">
            <span className="min-w-0">
              <span className="font-medium">{one.name}</span>{" "}
              <span className="text-sm text-faded">{one.again ? "a new password" : [roleWords(one.roles), ...one.teams].filter(Boolean).join(", ") || "may do nothing yet"}</span>
              <span className="block text-sm text-faded">
                by {one.made_by}, until {when(one.expires_at, new Date())}
              </span>
            </span>
            <Button kind="quiet" aria-label={`Take the invite for ${one.name} back`} onClick={() => back.mutate(one.id)}>
              Take back
            </Button>
          </li>
        ))}
      </ul>
      {back.error && (
        <div className="px-5 pb-4">
          <Refusal error={back.error} />
        </div>
      )}
    </Sheet>
  );
}

/** Makes a link for somebody new, and shows it once. */
export function InviteDialog({ close }: { close: () => void }) {
  const [name, setName] = useState("");
  const [mail, setMail] = useState("");
  const [roles, setRoles] = useState<HeldRole[]>([{ role: "operator", kind: "shop", place: "" }]);
  const [teams, setTeams] = useState<string[]>([]);
  const [days, setDays] = useState(7);
  const [made, setMade] = useState<CreatedInvite | null>(null);
  const make = useChange(async () => setMade(await value(api.POST("/api/invites", { body: { name, mail, roles, teams, days, again: "" } }))), "people");
  if (made)
    return (
      <HandedOnce
        title={`An invite for ${made.name}`}
        label="Hand this address on"
        what={window.location.origin + made.path}
        hint={`It lets one person in, until ${when(made.expires_at, new Date())}. It is shown this once.`}
        close={close}
      />
    );
  return (
    <FormDialog title="Invite somebody" text="They get a link, and choose their own name to sign in with and password." close={close} send={() => make.mutate(undefined)} asked={make.isPending} error={make.error} action="Make the link">
      <Field label="Their name">
        <input className={inputLook} autoFocus required maxLength={120} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
      <HeldRoles roles={roles} set={setRoles} />
      <TeamChoice teams={teams} set={setTeams} />
      <div className="grid grid-cols-2 gap-4">
        <Field label="Mail, if they have one">
          <input className={inputLook} type="email" maxLength={254} value={mail} onChange={(e) => setMail(e.target.value)} />
        </Field>
        <Field label="Good for, days">
          <input className={inputLook} type="number" min={1} max={60} value={days} onChange={(e) => setDays(Number(e.target.value))} />
        </Field>
      </div>
    </FormDialog>
  );
}
