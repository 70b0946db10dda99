import { useState } from "react";

import { api, CallFailed, type PersonShown, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useLive } from "../../api/live";
import { Button } from "../../ui/button";
import { FormDialog } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Failed, Loading, Sheet, SheetTitle } from "../../ui/page";
import { usePeople } from "./queries";

const MAY = { read: "may look", operate: "operates", maintain: "maintains", tender: "" };

/** Who can sign in; all that is kept of somebody, and their leaving. */
export function PeopleSetup() {
  const people = usePeople();
  const live = useLive();
  const [leaving, setLeaving] = useState<PersonShown | null>(null);
  if (people.error instanceof CallFailed && people.error.status === 403) return null; // for who maintains
  return (
    <Sheet className="min-w-0">
      <span id="people" />
      <SheetTitle>People</SheetTitle>
      {people.error ? (
        <Failed error={people.error} again={() => people.refetch()} />
      ) : !people.data ? (
        <Loading rows={2} height="h-11" />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {people.data.map((p) => (
            <li key={p.login} className="flex flex-wrap items-center justify-between gap-x-4 px-5 py-1.5">
              <span className="min-w-0">
                {p.name} <span className="text-sm text-faded">{MAY[p.scope]}</span>
                <span className="block text-sm text-faded">
                  signs in as {p.login}
                  {p.here_at && `; last here ${when(p.here_at, live.now())}`}
                </span>
              </span>
              <span className="flex items-center gap-3 text-sm">
                <a href={`/api/people/${encodeURIComponent(p.login)}/export`} download className="text-ink underline">
                  All that is kept
                </a>
                <Button kind="quiet" onClick={() => setLeaving(p)}>
                  Remove…
                </Button>
              </span>
            </li>
          ))}
        </ul>
      )}
      {leaving && <Leaving person={leaving} close={() => setLeaving(null)} />}
    </Sheet>
  );
}

function Leaving({ person, close }: { person: PersonShown; close: () => void }) {
  const remove = useChange(() => value(api.DELETE("/api/people/{login}", { params: { path: { login: person.login } } })).then(close), "people");
  return (
    <FormDialog
      title={`Remove ${person.name}?`}
      text="They sign in no more. Their channels, rules and sessions go, and so does their name: what they did stays, signed by somebody who left. Nothing undoes that; backups have the name until they are removed."
      close={close}
      send={() => remove.mutate(undefined)}
      asked={remove.isPending}
      error={remove.error}
      action="Remove"
      kind="danger"
    >
      <a href={`/api/people/${encodeURIComponent(person.login)}/export`} download className="text-ink underline">
        Take all that is kept of them first
      </a>
    </FormDialog>
  );
}
