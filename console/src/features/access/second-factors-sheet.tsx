import { useMutation } from "@tanstack/react-query";
import { useState } from "react";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog, Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { hasPasskeys, makePasskey } from "./passkey";
import { useSecondFactors } from "./queries";

const KIND = { app: "an app that shows codes", passkey: "a passkey" };

/** What one has beside the password: added, taken away. */
export function SecondFactorsSheet() {
  const factors = useSecondFactors();
  const [adding, setAdding] = useState<"app" | "passkey" | null>(null);
  const [codes, setCodes] = useState<string[]>([]);
  const remove = useChange((number: number) => value(api.DELETE("/api/me/second-factors/{number}", { params: { path: { number } } })), "people", "me");
  const fresh = useChange(async () => setCodes((await value(api.POST("/api/me/recovery-codes"))).recovery_codes), "people");
  const f = factors.data;
  const now = new Date();
  const added = (given: string[]) => {
    setAdding(null);
    setCodes(given);
  };
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Second factor</SheetTitle>
      {factors.error ? (
        <Failed error={factors.error} again={() => factors.refetch()} />
      ) : !f ? (
        <Loading rows={1} height="h-14" />
      ) : (
        <>
          {f.factors.length === 0 ? (
            <p className="m-0 px-5 pb-3 text-faded">
              None yet. With one, whoever learns your password gets no further.
              {!!f.wanted_by?.length && ` Your role ${f.wanted_by.join(" and ")} wants one.`}
            </p>
          ) : (
            <ul className="m-0 list-none divide-y divide-rule p-0">
              {f.factors.map((one) => (
                <li key={one.id} className="flex items-center justify-between gap-4 px-5 py-2.5">
                  <span className="min-w-0">
                    <span className="font-medium">{one.name}</span> <span className="text-sm text-faded">{KIND[one.kind]}</span>
                    <span className="block text-sm text-faded">
                      since {when(one.added_at, now)}
                      {one.last_at && `, last used ${when(one.last_at, now)}`}
                    </span>
                  </span>
                  <Button kind="quiet" aria-label={`Remove ${one.name}`} onClick={() => remove.mutate(one.id)}>
                    Remove
                  </Button>
                </li>
              ))}
            </ul>
          )}
          <div className="flex flex-col gap-3 border-t border-rule px-5 py-3">
            {f.factors.length > 0 && (
              <p className="m-0 flex items-center justify-between gap-4 text-sm text-faded">
                Recovery codes left: {f.recovery_codes}
                <Button kind="quiet" asked={fresh.isPending} onClick={() => fresh.mutate(undefined)}>
                  New ones…
                </Button>
              </p>
            )}
            <div className="flex flex-wrap gap-2">
              <Button onClick={() => setAdding("passkey")} disabled={!hasPasskeys()}>
                Add a passkey…
              </Button>
              <Button onClick={() => setAdding("app")}>Add an app…</Button>
            </div>
            {!hasPasskeys() && <p className="m-0 text-sm text-faded">Passkeys need this page to be open under a name, with TLS or on this computer.</p>}
            <Refusal error={remove.error ?? fresh.error} />
          </div>
        </>
      )}
      {adding === "app" && <AppDialog added={added} close={() => setAdding(null)} />}
      {adding === "passkey" && <PasskeyDialog added={added} close={() => setAdding(null)} />}
      {codes.length > 0 && <Codes codes={codes} close={() => setCodes([])} />}
    </Sheet>
  );
}

interface Adding {
  added: (codes: string[]) => void;
  close: () => void;
}

/** First a name, then the QR code and the first code that the app shows. */
function AppDialog({ added, close }: Adding) {
  const [name, setName] = useState("My phone");
  const [code, setCode] = useState("");
  const begin = useMutation({ mutationFn: (called: string) => value(api.POST("/api/me/second-factors/app", { body: { name: called } })) });
  const app = begin.data;
  const confirm = useChange(async () => {
    const done = await value(api.POST("/api/me/second-factors/{number}/confirmed", { params: { path: { number: app?.id ?? 0 } }, body: { code } }));
    added(done.recovery_codes);
  }, "people", "me");
  if (!app)
    return (
      <FormDialog title="Add an app that shows codes" text="Any app for one-time codes will do (TOTP)." close={close} send={() => begin.mutate(name)} asked={begin.isPending} error={begin.error} action="Go on">
        <Field label="What you call it">
          <input className={inputLook} autoFocus required maxLength={60} value={name} onChange={(e) => setName(e.target.value)} />
        </Field>
      </FormDialog>
    );
  return (
    <FormDialog title="Read this with the app" text="Then type the code that it shows." close={close} send={() => confirm.mutate(undefined)} asked={confirm.isPending} error={confirm.error} action="Add it">
      <img className="mx-auto w-44 rounded-md bg-white" alt="QR code for the app" src={`data:image/svg+xml,${encodeURIComponent(app.qr_svg)}`} />
      <p className="m-0 text-sm text-faded">
        Or type: <span className="font-mono break-all text-ink">{app.secret.match(/.{1,4}/g)?.join(" ")}</span>
      </p>
      <Field label="Code">
        <input className={`${inputLook} font-mono`} autoFocus inputMode="numeric" autoComplete="one-time-code" required maxLength={40} value={code} onChange={(e) => setCode(e.target.value)} />
      </Field>
    </FormDialog>
  );
}

function PasskeyDialog({ added, close }: Adding) {
  const [name, setName] = useState("This device");
  const make = useChange(async () => {
    const { options } = await value(api.POST("/api/me/second-factors/passkey/begin"));
    const credential = await makePasskey(options);
    added((await value(api.POST("/api/me/second-factors/passkey", { body: { name, credential } }))).recovery_codes);
  }, "people", "me");
  return (
    <FormDialog title="Add a passkey" text="This device, or a key that you plug in, then signs you in without a password." close={close} send={() => make.mutate(undefined)} asked={make.isPending} error={make.error} action="Make it">
      <Field label="What you call it">
        <input className={inputLook} autoFocus required maxLength={60} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
    </FormDialog>
  );
}

/** Recovery codes, shown this once. */
function Codes({ codes, close }: { codes: string[]; close: () => void }) {
  return (
    <Dialog open close={close} title="Recovery codes" text="Each signs you in once where your second factor is lost. They are shown this once: print them, or write them down.">
      <ul aria-label="Recovery codes" className="m-0 grid list-none grid-cols-2 gap-x-6 gap-y-1 rounded-md bg-sunk p-4 font-mono">
        {codes.map((one) => (
          <li key={one}>{one}</li>
        ))}
      </ul>
      <div className="flex justify-end gap-2">
        <Button onClick={() => void navigator.clipboard.writeText(codes.join("\n"))}>Copy</Button>
        <Button kind="strong" onClick={close}>
          I have them
        </Button>
      </div>
    </Dialog>
  );
}
