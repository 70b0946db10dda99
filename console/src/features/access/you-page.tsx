import { type FormEvent, useRef, useState } from "react";

import { api, type Me, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Failed, HowKept, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { KeysSheet } from "./keys-sheet";
import { SecondFactorsSheet } from "./second-factors-sheet";
import { Portrait } from "./portrait";
import { useMe } from "../../api/may";
import { useRights, useSessions } from "./queries";
import { placeWords } from "./words";

/** What one sees and sets of oneself. */
export function YouPage() {
  const me = useMe().data;
  if (!me) return null;
  return (
    <Page title="You">
      <div className="grid gap-5 lg:grid-cols-2 lg:items-start">
        <div className="flex min-w-0 flex-col gap-5">
          <About me={me} />
          <Password />
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <SecondFactorsSheet />
          <Sessions />
          <KeysSheet mine={me.name} />
          <YourRights me={me} />
        </div>
      </div>
    </Page>
  );
}

function About({ me }: { me: Me }) {
  const file = useRef<HTMLInputElement>(null);
  const [draft, setDraft] = useState<{ mail: string; zone: string } | null>(null);
  const shown = draft ?? { mail: me.mail ?? "", zone: me.zone ?? "" };
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const set = useChange(() => value(api.PATCH("/api/me", { body: shown })).then(() => setDraft(null)), "me");
  const picture = useChange(
    (chosen: File | null) =>
      chosen
        ? value(api.PUT("/api/me/picture", { body: chosen as unknown as string, bodySerializer: (body) => body as never, headers: { "Content-Type": chosen.type } }))
        : value(api.DELETE("/api/me/picture")),
    "me", "people",
  );
  return (
    <Sheet className="min-w-0">
      <div className="flex items-center gap-4 px-5 pt-5">
        <Portrait person={me} size={72} />
        <div className="min-w-0">
          <h2 className="m-0 text-lg font-semibold">{me.name}</h2>
          <p className="m-0 text-sm text-faded">signs in as {me.login}; what you do is signed with your name</p>
          <div className="-ml-3.5 flex">
            <Button kind="quiet" asked={picture.isPending} onClick={() => file.current?.click()}>
              {me.pictured_at ? "Another picture…" : "Add a picture…"}
            </Button>
            {me.pictured_at && (
              <Button kind="quiet" onClick={() => picture.mutate(null)}>
                Remove it
              </Button>
            )}
          </div>
          <input
            ref={file}
            type="file"
            aria-label="Picture"
            accept="image/jpeg,image/png"
            className="hidden"
            onChange={(e) => {
              const chosen = e.target.files?.[0];
              if (chosen) picture.mutate(chosen);
              e.target.value = "";
            }}
          />
        </div>
      </div>
      <form
        className="flex flex-col gap-4 p-5"
        onSubmit={(e) => {
          e.preventDefault();
          set.mutate(undefined);
        }}
      >
        <Field label="Mail">
          <input className={inputLook} type="email" maxLength={254} value={shown.mail} onChange={(e) => setDraft({ ...shown, mail: e.target.value })} />
        </Field>
        <Field label="Time zone" hint="Times are shown to you, and read from you, in this zone.">
          <select className={inputLook} value={shown.zone} onChange={(e) => setDraft({ ...shown, zone: e.target.value })}>
            <option value="">that of this device ({here})</option>
            {Intl.supportedValuesOf("timeZone").map((zone) => (
              <option key={zone}>{zone}</option>
            ))}
          </select>
        </Field>
        <Refusal error={set.error ?? picture.error} />
        <div className="flex items-center justify-end gap-3">
          <HowKept touched={draft !== null} kept={set.isSuccess} />
          <Button kind="strong" type="submit" disabled={!draft} asked={set.isPending}>
            Set
          </Button>
        </div>
      </form>
    </Sheet>
  );
}

function Password() {
  const [old, setOld] = useState("");
  const [next, setNext] = useState("");
  const change = useChange(async () => {
    await value(api.POST("/api/me/password", { body: { old, new: next } }));
    setOld("");
    setNext("");
  }, "people");
  const submit = (e: FormEvent) => {
    e.preventDefault();
    change.mutate(undefined);
  };
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Password</SheetTitle>
      <form className="flex flex-col gap-4 px-5 pb-5" onSubmit={submit}>
        <Field label="The one you have">
          <input className={inputLook} type="password" autoComplete="current-password" required maxLength={400} value={old} onChange={(e) => setOld(e.target.value)} />
        </Field>
        <Field label="The new one" hint="At least 8 characters and not soon guessed: four words that have nothing to do with each other do.">
          <input className={inputLook} type="password" autoComplete="new-password" required minLength={8} maxLength={400} value={next} onChange={(e) => setNext(e.target.value)} />
        </Field>
        <Refusal error={change.error} />
        <div className="flex items-center justify-end gap-3">
          {change.isSuccess && !old && !next && <span className="text-sm text-faded">Changed; your other sessions are ended.</span>}
          <Button type="submit" asked={change.isPending}>
            Change the password
          </Button>
        </div>
      </form>
    </Sheet>
  );
}

function YourRights({ me }: { me: Me }) {
  const rights = useRights();
  return (
    <Sheet className="min-w-0">
      <SheetTitle>What you may do</SheetTitle>
      <dl className="m-0 px-5 pb-4">
        {(me.rights ?? []).map((one) => {
          const meaning = rights.data?.find((r) => r.right === one.right);
          return (
            <div key={one.right} className="border-b border-rule py-2 last:border-0">
              <dt className="font-medium">
                {meaning?.words ?? one.right}
                {one.places.every((p) => p.kind !== "shop") && <span className="font-normal text-faded"> for {one.places.map(placeWords).join(" and ")}</span>}
              </dt>
              <dd className="m-0 text-sm text-faded">{meaning?.text}</dd>
            </div>
          );
        })}
        {!me.rights?.length && <p className="m-0 text-faded">Nothing yet. Ask who manages people here for a role.</p>}
      </dl>
    </Sheet>
  );
}

function Sessions() {
  const sessions = useSessions();
  const end = useChange((number: number) => value(api.DELETE("/api/me/sessions/{number}", { params: { path: { number } } })), "people");
  const others = useChange(() => value(api.DELETE("/api/me/sessions")), "people");
  const now = new Date();
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Where you are signed in</SheetTitle>
      {sessions.error ? (
        <Failed error={sessions.error} again={() => sessions.refetch()} />
      ) : !sessions.data ? (
        <Loading rows={2} height="h-14" />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {sessions.data.map((s) => (
            <li key={s.id} className="flex items-center justify-between gap-4 px-5 py-2.5">
              <span className="min-w-0">
                <span className="font-medium">{s.device || "an unknown device"}</span> {s.this && <span className="text-sm text-faded">this one</span>}
                {s.trusted && !s.this && <span className="text-sm text-faded">your own</span>}
                <span className="block text-sm text-faded">
                  from {s.place}; since {when(s.made_at, now)}, last used {when(s.last_at, now)}
                </span>
              </span>
              {!s.this && (
                <Button kind="quiet" aria-label={`End the session on ${s.device}`} onClick={() => end.mutate(s.id)}>
                  End
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      <div className="flex flex-col gap-3 border-t border-rule px-5 py-3">
        <Refusal error={end.error ?? others.error} />
        <Button className="self-start" disabled={(sessions.data?.length ?? 0) < 2} asked={others.isPending} onClick={() => others.mutate(undefined)}>
          End all others
        </Button>
      </div>
    </Sheet>
  );
}
