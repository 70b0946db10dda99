import { useState } from "react";

import { api, type TeamShown, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { HeldRoles } from "./held-roles";
import { usePeople, useTeams } from "./queries";
import { roleWords } from "./words";

/** People who hold the same roles. */
export function TeamsSheet() {
  const teams = useTeams();
  const people = usePeople();
  const [changing, setChanging] = useState<TeamShown | "new" | null>(null);
  const remove = useChange((name: string) => value(api.DELETE("/api/teams/{name}", { params: { path: { name } } })), "people", "me");
  const called = (login: string) => people.data?.find((one) => one.login === login)?.name ?? login;
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={<Button onClick={() => setChanging("new")}>Make a team…</Button>}>Teams</SheetTitle>
      {teams.error ? (
        <Failed error={teams.error} again={() => teams.refetch()} />
      ) : !teams.data ? (
        <Loading rows={1} height="h-12" />
      ) : teams.data.length === 0 ? (
        <p className="m-0 px-5 pb-4 text-faded">No team yet. What a team holds, everybody in it has.</p>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {teams.data.map((team) => (
            <li key={team.name} className="flex items-start justify-between gap-4 px-5 py-2.5">
              <span className="min-w-0">
                <span className="font-medium">{team.name}</span> <span className="text-sm text-faded">{roleWords(team.roles ?? []) || "holds no role"}</span>
                <span className="block text-sm text-faded">{(team.members ?? []).map(called).join(", ") || "nobody is in it"}</span>
              </span>
              <span className="flex shrink-0">
                <Button kind="quiet" aria-label={`Change ${team.name}`} onClick={() => setChanging(team)}>
                  Change…
                </Button>
                <Button kind="quiet" aria-label={`Remove ${team.name}`} onClick={() => remove.mutate(team.name)}>
                  Remove
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {remove.error && (
        <div className="px-5 pb-4">
          <Refusal error={remove.error} />
        </div>
      )}
      {changing && <TeamDialog team={changing === "new" ? null : changing} close={() => setChanging(null)} />}
    </Sheet>
  );
}

function TeamDialog({ team, close }: { team: TeamShown | null; close: () => void }) {
  const people = usePeople().data ?? [];
  const [name, setName] = useState(team?.name ?? "");
  const [roles, setRoles] = useState(team?.roles ?? []);
  const [members, setMembers] = useState(team?.members ?? []);
  const set = useChange(() => value(api.PUT("/api/teams/{name}", { params: { path: { name: name.trim() } }, body: { roles, members } })).then(close), "people", "me");
  return (
    <FormDialog title={team ? team.name : "Make a team"} close={close} send={() => set.mutate(undefined)} asked={set.isPending} error={set.error} action="Set">
      {!team && (
        <Field label="Name">
          <input className={inputLook} autoFocus required maxLength={60} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
      )}
      <HeldRoles roles={roles} set={setRoles} />
      <fieldset className="m-0 flex max-h-60 flex-col overflow-auto border-0 p-0">
        <legend className="mb-1 p-0 text-sm font-medium">In it</legend>
        {people.map((p) => (
          <label key={p.login} className="flex min-h-9 items-center gap-2.5">
            <input type="checkbox" checked={members.includes(p.login)} onChange={(e) => setMembers(e.target.checked ? [...members, p.login] : members.filter((one) => one !== p.login))} />
            {p.name}
          </label>
        ))}
      </fieldset>
    </FormDialog>
  );
}
