import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, setCsrf, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";
import { useTheme } from "../../ui/theme";

export function SignInPage() {
  useTheme();
  const client = useQueryClient();
  const [login, setLogin] = useState("");
  const [password, setPassword] = useState("");
  const signIn = useMutation({
    mutationFn: () => value(api.POST("/api/sign-in", { body: { login, password } })),
    onSuccess: (me) => {
      setCsrf(me.csrf ?? "");
      client.setQueryData(["me"], me);
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    signIn.mutate();
  };
  return (
    <main className="grid min-h-screen place-items-center px-5">
      <form onSubmit={submit} className="w-full max-w-sm">
        <img src="/icon.svg" alt="" className="mb-6 h-11 w-11" />
        <h1 className="m-0 text-3xl font-semibold">Chronarch</h1>
        <p className="mt-1 mb-7 text-faded">Sign in to see the shop.</p>
        <div className="flex flex-col gap-4">
          <Field label="Name">
            <input
              className={inputLook}
              autoFocus
              autoComplete="username"
              value={login}
              onChange={(e) => setLogin(e.target.value)}
              required
            />
          </Field>
          <Field label="Password">
            <input
              className={inputLook}
              type="password"
              autoComplete="current-password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              required
            />
          </Field>
          <Refusal error={signIn.error} />
          <Button type="submit" kind="strong" className="min-h-11" disabled={signIn.isPending}>
            {signIn.isPending ? "Signing in…" : "Sign in"}
          </Button>
        </div>
      </form>
    </main>
  );
}
