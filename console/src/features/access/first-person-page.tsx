import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";

import { api, setCsrf, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";
import { useTheme } from "../../ui/theme";

/** The first thing a new shop shows: who has the code of its computer becomes the first who manages it. */
export function FirstPersonPage() {
  useTheme();
  const client = useQueryClient();
  const navigate = useNavigate();
  const [asked, setAsked] = useState({ code: "", name: "", login: "", password: "" });
  const enter = useMutation({
    mutationFn: () => value(api.POST("/api/first-person", { body: asked })),
    onSuccess: (me) => {
      setCsrf(me.csrf ?? "");
      client.setQueryData(["me"], me);
      void navigate("/first-steps");
    },
  });
  const submit = (e: FormEvent) => {
    e.preventDefault();
    enter.mutate();
  };
  const set = (name: keyof typeof asked) => (e: { target: { value: string } }) => setAsked({ ...asked, [name]: e.target.value });
  return (
    <main className="grid min-h-screen place-items-center px-5 py-8">
      <form onSubmit={submit} className="w-full max-w-sm">
        <img src="/icon.svg" alt="" className="mb-6 h-11 w-11" />
        <h1 className="m-0 text-3xl font-semibold">A new shop</h1>
        <p className="mt-1 mb-7 text-faded">Nobody can sign in yet. You will be the first, and may do everything.</p>
        <div className="flex flex-col gap-4">
          <Field label="Code" hint="Installing showed it. On the service's computer: chronarch service first-code">
            <input className={`${inputLook} font-mono tracking-wide uppercase placeholder:normal-case`} autoFocus autoComplete="off" spellCheck={false} value={asked.code} onChange={set("code")} required maxLength={40} />
          </Field>
          <Field label="Your name" hint="What you do is signed with it.">
            <input className={inputLook} autoComplete="name" value={asked.name} onChange={set("name")} required maxLength={120} />
          </Field>
          <Field label="Sign in as">
            <input className={inputLook} autoComplete="username" autoCapitalize="none" value={asked.login} onChange={set("login")} required maxLength={120} />
          </Field>
          <Field label="Password" hint="At least 8 characters.">
            <input className={inputLook} type="password" autoComplete="new-password" value={asked.password} onChange={set("password")} required minLength={8} maxLength={400} />
          </Field>
          <Refusal error={enter.error} />
          <Button type="submit" kind="strong" className="min-h-11" asked={enter.isPending}>
            Begin
          </Button>
        </div>
      </form>
    </main>
  );
}
