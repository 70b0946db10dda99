import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";

import { api, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";
import { useTheme } from "../../ui/theme";
import { roleWords } from "./words";

/** Where an invite's link leads: somebody new chooses how to sign in; somebody who is here, a new password. */
export function JoinPage() {
  useTheme();
  const token = window.location.hash.slice(1);
  const invite = useQuery({
    queryKey: ["invited", token],
    queryFn: () => value(api.GET("/api/invited", { params: { header: { "X-Invite": token } } })),
    retry: false,
    staleTime: Infinity,
  });
  const [login, setLogin] = useState("");
  const [name, setName] = useState<string | null>(null);
  const [password, setPassword] = useState("");
  const [error, setError] = useState<Error | null>(null);
  const [sent, setSent] = useState(false);
  const i = invite.data;
  const submit = async (e: FormEvent) => {
    e.preventDefault();
    setSent(true);
    try {
      await value(api.POST("/api/invited", { body: { token, login, name: name ?? "", mail: "", password } }));
      window.location.replace("/");
    } catch (refused) {
      setError(refused as Error);
      setSent(false);
    }
  };
  if (invite.isPending) return null;
  return (
    <main className="grid min-h-screen place-items-center px-5 py-8">
      <form onSubmit={(e) => void submit(e)} className="w-full max-w-sm">
        <img src="/icon.svg" alt="" className="mb-6 h-11 w-11" />
        {!i ? (
          <>
            <h1 className="m-0 text-3xl font-semibold">This link opens nothing</h1>
            <p role="alert" className="mt-1 mb-7 text-faded">
              {invite.error?.message}
            </p>
            <a href="/" className="text-ink">
              To the sign-in
            </a>
          </>
        ) : (
          <>
            <h1 className="m-0 text-3xl font-semibold">{i.login ? "A new password" : `Join ${i.shop}`}</h1>
            <p className="mt-1 mb-7 text-faded">
              {i.login ? `${i.name}, choose the password with which you sign in at ${i.shop} as ${i.login}.` : `${i.invited_by} has invited you, ${i.name}${i.roles.length ? `, as ${roleWords(i.roles)}` : ""}${i.teams.length ? ` in ${i.teams.join(", ")}` : ""}.`}
            </p>
            <div className="flex flex-col gap-4">
              {!i.login && (
                <>
                  <Field label="Your name" hint="What you do is signed with it.">
                    <input className={inputLook} autoComplete="name" required maxLength={120} value={name ?? i.name} onChange={(e) => setName(e.target.value)} />
                  </Field>
                  <Field label="Sign in as">
                    <input className={inputLook} autoFocus autoComplete="username" autoCapitalize="none" required maxLength={120} value={login} onChange={(e) => setLogin(e.target.value)} />
                  </Field>
                </>
              )}
              <Field label="Password" hint="At least 8 characters and not soon guessed: four words that have nothing to do with each other do.">
                <input className={inputLook} type="password" autoComplete="new-password" autoFocus={!!i.login} required minLength={8} maxLength={400} value={password} onChange={(e) => setPassword(e.target.value)} />
              </Field>
              <Refusal error={error} />
              <Button type="submit" kind="strong" className="min-h-11" asked={sent}>
                {i.login ? "Set it and sign in" : "Join"}
              </Button>
            </div>
          </>
        )}
      </form>
    </main>
  );
}
