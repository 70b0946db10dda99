import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, CallFailed, setCsrf, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";
import { useTheme } from "../../ui/theme";
import { hasPasskeys, showPasskey } from "./passkey";

export function SignInPage() {
  useTheme();
  const client = useQueryClient();
  const [login, setLogin] = useState("");
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const [trusted, setTrusted] = useState(false);
  const [asksCode, setAsksCode] = useState(false);
  const signIn = useMutation({
    mutationFn: async (by: "password" | "passkey") => {
      if (by === "password") return value(api.POST("/api/sign-in", { body: { login, password, code, trusted } }));
      const { options } = await value(api.POST("/api/sign-in/passkey/begin"));
      return value(api.POST("/api/sign-in/passkey", { body: { credential: await showPasskey(options), trusted } }));
    },
    onSuccess: (me) => {
      setCsrf(me.csrf ?? "");
      client.setQueryData(["me"], me);
    },
    onError: (error) => {
      if (error instanceof CallFailed && error.kind === "urn:chronarch:second-factor") setAsksCode(true);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    signIn.mutate("password");
  };
  const asked = asksCode && !code ? null : signIn.error; // that a code is wanted is said by its field
  return (
    <main className="grid min-h-screen place-items-center px-5">
      <form onSubmit={submit} className="w-full max-w-sm">
        <img src="/icon.svg" alt="" className="mb-6 h-11 w-11" />
        <h1 className="m-0 text-3xl font-semibold">Chronarch</h1>
        <p className="mt-1 mb-7 text-faded">Sign in to see the shop.</p>
        <div className="flex flex-col gap-4">
          <Field label="Name">
            <input className={inputLook} autoFocus autoComplete="username webauthn" value={login} onChange={(e) => setLogin(e.target.value)} required />
          </Field>
          <Field label="Password">
            <input className={inputLook} type="password" autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} required />
          </Field>
          {asksCode && (
            <Field label="Code" hint="The one that your app shows now, or a recovery code.">
              <input className={`${inputLook} font-mono`} autoFocus inputMode="numeric" autoComplete="one-time-code" maxLength={40} value={code} onChange={(e) => setCode(e.target.value)} required />
            </Field>
          )}
          <label className="flex min-h-9 items-center gap-2.5">
            <input type="checkbox" checked={trusted} onChange={(e) => setTrusted(e.target.checked)} />
            This device is my own: stay signed in
          </label>
          <Refusal error={asked} />
          <Button type="submit" kind="strong" className="min-h-11" disabled={signIn.isPending}>
            {signIn.isPending ? "Signing in…" : "Sign in"}
          </Button>
          {hasPasskeys() && (
            <Button className="min-h-11" disabled={signIn.isPending} onClick={() => signIn.mutate("passkey")}>
              Sign in with a passkey
            </Button>
          )}
        </div>
      </form>
    </main>
  );
}
