import { useState } from "react";

import { api, type Right, type RoleShown, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useGuardedRoles, useRights, useRoles } from "./queries";

/** The roles and what each lets one do; those of the shop's own are made and changed here. */
export function RolesSheet() {
  const roles = useRoles();
  const rights = useRights();
  const [changing, setChanging] = useState<RoleShown | "new" | null>(null);
  const [guarding, setGuarding] = useState(false);
  const remove = useChange((name: string) => value(api.DELETE("/api/roles/{name}", { params: { path: { name } } })), "people");
  const guarded = useGuardedRoles().data?.roles ?? [];
  const words = (right: Right) => rights.data?.find((one) => one.right === right)?.words ?? right;
  return (
    <Sheet className="min-w-0">
      <SheetTitle
        beside={
          <span className="flex gap-2">
            <Button kind="quiet" onClick={() => setGuarding(true)}>
              Second factor…
            </Button>
            <Button onClick={() => setChanging("new")}>Make a role…</Button>
          </span>
        }
      >
        Roles
      </SheetTitle>
      {roles.error ? (
        <Failed error={roles.error} again={() => roles.refetch()} />
      ) : !roles.data ? (
        <Loading rows={5} height="h-12" />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {roles.data.map((role) => (
            <li key={role.name} className="flex items-start justify-between gap-4 px-5 py-2.5">
              <span className="min-w-0">
                <span className="font-medium">{role.name}</span>{" "}
                <span className="text-sm text-faded">{role.held_by ? `held by ${role.held_by}` : "held by nobody"}{guarded.includes(role.name) && "; wants a second factor"}</span>
                <span className="block text-sm text-faded">may {role.rights.map(words).join(", ")}</span>
              </span>
              {!role.given && (
                <span className="flex shrink-0">
                  <Button kind="quiet" aria-label={`Change ${role.name}`} onClick={() => setChanging(role)}>
                    Change…
                  </Button>
                  <Button kind="quiet" aria-label={`Remove ${role.name}`} onClick={() => remove.mutate(role.name)}>
                    Remove
                  </Button>
                </span>
              )}
            </li>
          ))}
        </ul>
      )}
      {remove.error && (
        <div className="px-5 pb-4">
          <Refusal error={remove.error} />
        </div>
      )}
      {guarding && <GuardDialog roles={roles.data ?? []} guarded={guarded} close={() => setGuarding(false)} />}
      {changing && <RoleDialog role={changing === "new" ? null : changing} close={() => setChanging(null)} />}
    </Sheet>
  );
}

/** Which roles count only where a second factor was shown. */
function GuardDialog({ roles, guarded, close }: { roles: RoleShown[]; guarded: string[]; close: () => void }) {
  const [wanted, setWanted] = useState(guarded);
  const set = useChange(() => value(api.PUT("/api/guarded-roles", { body: { roles: wanted } })).then(close), "people", "me");
  return (
    <FormDialog
      title="Roles that want a second factor"
      text="They count only for those who have shown one when they signed in. The others see what is missing, and how to add one."
      close={close}
      send={() => set.mutate(undefined)}
      asked={set.isPending}
      error={set.error}
      action="Set"
    >
      <fieldset className="m-0 flex flex-col border-0 p-0">
        <legend className="sr-only">Roles</legend>
        {roles
          .filter((role) => role.name !== "tender")
          .map((role) => (
            <label key={role.name} className="flex min-h-9 items-center gap-2.5">
              <input type="checkbox" checked={wanted.includes(role.name)} onChange={(e) => setWanted(e.target.checked ? [...wanted, role.name] : wanted.filter((name) => name !== role.name))} />
              {role.name}
            </label>
          ))}
      </fieldset>
    </FormDialog>
  );
}

function RoleDialog({ role, close }: { role: RoleShown | null; close: () => void }) {
  const [name, setName] = useState(role?.name ?? "");
  const [had, setHad] = useState<Right[]>(role?.rights ?? ["see"]);
  const set = useChange(() => value(api.PUT("/api/roles/{name}", { params: { path: { name: name.trim() } }, body: { rights: had } })).then(close), "people", "me");
  return (
    <FormDialog
      title={role ? `What a ${role.name} may do` : "Make a role"}
      text={role?.held_by ? `It counts at once for the ${role.held_by} who hold it.` : undefined}
      close={close}
      send={() => set.mutate(undefined)}
      asked={set.isPending}
      error={set.error}
      action="Set"
    >
      {!role && (
        <Field label="Name">
          <input className={inputLook} autoFocus required maxLength={40} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
      )}
      <RightChoice had={had} set={setHad} />
    </FormDialog>
  );
}

/** The rights that something has, each with what it takes in. */
export function RightChoice({ had, set }: { had: Right[]; set: (rights: Right[]) => void }) {
  const rights = useRights().data ?? [];
  return (
    <fieldset className="m-0 flex flex-col gap-2 border-0 p-0">
      <legend className="mb-1 p-0 text-sm font-medium">May</legend>
      {rights
        .filter((one) => one.right !== "tender")
        .map((one) => (
          <label key={one.right} className="grid grid-cols-[auto_1fr] items-baseline gap-x-2.5">
            <input type="checkbox" checked={had.includes(one.right)} onChange={(e) => set(e.target.checked ? [...had, one.right] : had.filter((r) => r !== one.right))} />
            <span>
              {one.words}
              <span className="block text-sm text-faded">{one.text}</span>
            </span>
          </label>
        ))}
    </fieldset>
  );
}
