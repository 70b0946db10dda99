import { useState } from "react";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Choice } from "../../ui/choice";
import { Field, FormDialog, inputLook } from "../../ui/dialog";

const LEAST = 12;

/** Give a place for backups, and say how they are sealed there. It is tried at once. */
export function BackupPlaceDialog({ close }: { close: () => void }) {
  const [address, setAddress] = useState("");
  const [login, setLogin] = useState("");
  const [password, setPassword] = useState("");
  const [how, setHow] = useState("passphrase");
  const [passphrase, setPassphrase] = useState("");
  const [again, setAgain] = useState("");
  const [key, setKey] = useState("");
  const [wrong, setWrong] = useState<Error | null>(null);
  const far = address.startsWith("s3+");
  const give = useChange(
    () =>
      value(
        api.PATCH("/api/backup-settings", {
          body: {
            place: {
              address: address.trim(), login: far ? login : "", password: far ? password : "",
              ...(how === "passphrase" ? { passphrase } : { public_key: key.trim().toLowerCase() }),
            },
          },
        }),
      ).then(close),
    "backups",
  );
  const send = () => {
    const unequal = how === "passphrase" && passphrase !== again;
    setWrong(unequal ? new Error("The passphrase was not typed alike twice.") : null);
    if (!unequal) give.mutate(undefined);
  };
  return (
    <FormDialog
      title="A place for backups"
      text="A folder on another drive than this computer's own, a mounted share, or storage that speaks S3. Nothing is readable there."
      close={close}
      send={send}
      asked={give.isPending}
      error={wrong ?? give.error}
      action="Keep backups there"
    >
      <Field label="Where" hint="Such as /mnt/backups/shop, or s3+https://HOST/BUCKET/PREFIX">
        <input className={inputLook} value={address} onChange={(e) => setAddress(e.target.value)} required maxLength={500} autoComplete="off" />
      </Field>
      {far && (
        <div className="grid grid-cols-2 gap-3">
          <Field label="Login">
            <input className={inputLook} value={login} onChange={(e) => setLogin(e.target.value)} autoComplete="off" />
          </Field>
          <Field label="Password">
            <input type="password" className={inputLook} value={password} onChange={(e) => setPassword(e.target.value)} autoComplete="off" />
          </Field>
        </div>
      )}
      <div className="-mb-2">
        <Choice
          label="How they are sealed"
          options={[
            { key: "passphrase", name: "With a passphrase" },
            { key: "key", name: "For a public key" },
          ]}
          value={how}
          choose={setHow}
        />
      </div>
      {how === "passphrase" ? (
        <>
          <Field label="Passphrase" hint={`At least ${LEAST} characters. Without it nobody can restore a backup: keep it where this computer is not.`}>
            <input type="password" className={inputLook} value={passphrase} onChange={(e) => setPassphrase(e.target.value)} required minLength={LEAST} autoComplete="new-password" />
          </Field>
          <Field label="The same again">
            <input type="password" className={inputLook} value={again} onChange={(e) => setAgain(e.target.value)} required autoComplete="new-password" />
          </Field>
        </>
      ) : (
        <Field label="Public key" hint="`chronarch backup make-keys FILE` makes a pair and prints this one. Only the private key opens backups, so none is tried by itself.">
          <input className={inputLook} value={key} onChange={(e) => setKey(e.target.value)} required pattern="[0-9a-fA-F ]{64,70}" autoComplete="off" spellCheck={false} />
        </Field>
      )}
    </FormDialog>
  );
}
