import * as Menu from "@radix-ui/react-dropdown-menu";
import { Ellipsis } from "lucide-react";
import { useState } from "react";

import { api, type CreatedInvite, type PersonShown, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useLive } from "../../api/live";
import { Button } from "../../ui/button";
import { FormDialog } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { HandedOnce } from "./handed-once";
import { HeldRoles } from "./held-roles";
import { InviteDialog } from "./invites-sheet";
import { Portrait } from "./portrait";
import { usePeople, useTeams } from "./queries";
import { roleWords } from "./words";

const exported = (login: string) => `/api/people/${encodeURIComponent(login)}/export`;
const item = "block cursor-pointer rounded px-3 py-2 text-ink no-underline outline-none data-[highlighted]:bg-sunk";
type Asked = { what: "roles" | "leave"; person: PersonShown };

/** Who can sign in and what they hold; inviting more, and their leaving. */
export function PeopleSheet() {
  const people = usePeople();
  const live = useLive();
  const [asked, setAsked] = useState<Asked | null>(null);
  const [inviting, setInviting] = useState(false);
  const [made, setMade] = useState<CreatedInvite | null>(null);
  const close = () => setAsked(null);
  const again = useChange(async (login: string) => setMade(await value(api.POST("/api/invites", { body: { again: login, days: 1, name: "", mail: "" } }))), "people");
  const forget = useChange((login: string) => value(api.DELETE("/api/people/{login}/second-factors", { params: { path: { login } } })), "people");
  const out = useChange((login: string) => value(api.DELETE("/api/people/{login}/sessions", { params: { path: { login } } })), "people");
  const refused = again.error ?? out.error ?? forget.error;
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={<Button kind="strong" onClick={() => setInviting(true)}>Invite somebody…</Button>}>People</SheetTitle>
      {people.error ? (
        <Failed error={people.error} again={() => people.refetch()} />
      ) : !people.data ? (
        <Loading rows={3} height="h-16" />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {people.data.map((p) => (
            <li key={p.login} className="flex items-center gap-3 px-5 py-2.5">
              <Portrait person={p} />
              <span className="min-w-0 flex-1">
                <span className="font-medium">{p.name}</span>{" "}
                <span className="text-sm text-faded">{roleWords(p.roles ?? []) || ((p.teams ?? []).length ? "" : "may do nothing yet")}</span>
                {!!p.teams?.length && <span className="text-sm text-faded">{p.roles?.length ? "; " : ""}in {p.teams.join(", ")}</span>}
                <span className="block text-sm text-faded">
                  signs in as {p.login}
                  {p.here_at && `; last here ${when(p.here_at, live.now())}`}
                </span>
              </span>
              <Button onClick={() => setAsked({ what: "roles", person: p })} aria-label={`Roles of ${p.name}`}>
                Roles…
              </Button>
              <Menu.Root>
                <Menu.Trigger asChild>
                  <button type="button" aria-label={`More about ${p.name}`} className="grid h-9 w-9 place-items-center rounded-md text-faded hover:bg-sunk hover:text-ink">
                    <Ellipsis size={18} aria-hidden />
                  </button>
                </Menu.Trigger>
                <Menu.Portal>
                  <Menu.Content align="end" sideOffset={4} className="fade-in z-50 w-60 rounded-lg border border-rule bg-sheet p-1.5 shadow-lg">
                    <Menu.Item className={item} onSelect={() => again.mutate(p.login)}>
                      A link to a new password…
                    </Menu.Item>
                    <Menu.Item className={item} onSelect={() => out.mutate(p.login)}>
                      Sign out everywhere
                    </Menu.Item>
                    <Menu.Item className={item} onSelect={() => forget.mutate(p.login)}>
                      Their second factor is lost
                    </Menu.Item>
                    <Menu.Item asChild className={item}>
                      <a href={exported(p.login)} download>
                        All that is kept
                      </a>
                    </Menu.Item>
                    <Menu.Item className={`${item} text-alarm!`} onSelect={() => setAsked({ what: "leave", person: p })}>
                      Remove…
                    </Menu.Item>
                  </Menu.Content>
                </Menu.Portal>
              </Menu.Root>
            </li>
          ))}
        </ul>
      )}
      {refused && (
        <div className="px-5 pb-4">
          <Refusal error={refused} />
        </div>
      )}
      {forget.isSuccess && <p className="m-0 px-5 pb-4 text-sm text-faded">They sign in without a second factor until they add one.</p>}
      {inviting && <InviteDialog close={() => setInviting(false)} />}
      {asked?.what === "roles" && <RolesDialog person={asked.person} close={close} />}
      {asked?.what === "leave" && <Leaving person={asked.person} close={close} />}
      {made && (
        <HandedOnce
          title={`A new password for ${made.name}`}
          label="Hand this address on"
          what={window.location.origin + made.path}
          hint={`Whoever has it chooses ${made.name}'s password. It works once, until ${when(made.expires_at, new Date())}, and is shown this once.`}
          close={() => setMade(null)}
        />
      )}
    </Sheet>
  );
}

function RolesDialog({ person, close }: { person: PersonShown; close: () => void }) {
  const [roles, setRoles] = useState(person.roles ?? []);
  const [teams, setTeams] = useState(person.teams ?? []);
  const set = useChange(
    () => value(api.PUT("/api/people/{login}/roles", { params: { path: { login: person.login } }, body: { roles, teams } })).then(close),
    "people", "me",
  );
  return (
    <FormDialog title={`What ${person.name} may do`} text="What you give, you have yourself. It counts at once." close={close} send={() => set.mutate(undefined)} asked={set.isPending} error={set.error} action="Set">
      <HeldRoles roles={roles} set={setRoles} />
      <TeamChoice teams={teams} set={setTeams} />
    </FormDialog>
  );
}

/** The teams that somebody is in. */
export function TeamChoice({ teams, set }: { teams: string[]; set: (teams: string[]) => void }) {
  const known = useTeams().data ?? [];
  if (!known.length) return null;
  return (
    <fieldset className="m-0 flex flex-wrap gap-x-5 gap-y-1 border-0 p-0">
      <legend className="mb-1 p-0 text-sm font-medium">Teams</legend>
      {known.map((team) => (
        <label key={team.name} className="flex min-h-9 items-center gap-2">
          <input
            type="checkbox"
            checked={teams.includes(team.name)}
            onChange={(e) => set(e.target.checked ? [...teams, team.name] : teams.filter((name) => name !== team.name))}
          />
          {team.name}
        </label>
      ))}
    </fieldset>
  );
}

function Leaving({ person, close }: { person: PersonShown; close: () => void }) {
  const remove = useChange(() => value(api.DELETE("/api/people/{login}", { params: { path: { login: person.login } } })).then(close), "people");
  return (
    <FormDialog
      title={`Remove ${person.name}?`}
      text="They sign in no more. Their channels, rules, keys and sessions go, and so does their name: what they did stays, signed by somebody who left. Nothing undoes that; backups have the name until they are removed."
      close={close}
      send={() => remove.mutate(undefined)}
      asked={remove.isPending}
      error={remove.error}
      action="Remove"
      kind="danger"
    >
      <a href={exported(person.login)} download className="text-ink underline">
        Take all that is kept of them first
      </a>
    </FormDialog>
  );
}
