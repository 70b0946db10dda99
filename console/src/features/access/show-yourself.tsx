import { useMutation } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { api, setAskWho, value } from "../../api/client";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { hasPasskeys, showPasskey } from "./passkey";
import { useSecondFactors } from "./queries";

/** Before what is dangerous: asks again who one is; what was asked for is sent once more then. */
export function ShowYourself() {
  const [open, setOpen] = useState(false);
  const answer = useRef<(shown: boolean) => void>(() => {});
  useEffect(() => {
    setAskWho(
      () =>
        new Promise<boolean>((resolve) => {
          answer.current(false);
          answer.current = resolve;
          setOpen(true);
        }),
    );
    return () => setAskWho(null);
  }, []);
  if (!open) return null;
  const done = (shown: boolean) => {
    setOpen(false);
    answer.current(shown);
  };
  return <Asking done={done} />;
}

function Asking({ done }: { done: (shown: boolean) => void }) {
  const factors = useSecondFactors().data?.factors ?? [];
  const [password, setPassword] = useState("");
  const [code, setCode] = useState("");
  const show = useMutation({
    mutationFn: async (by: "password" | "passkey") => {
      if (by === "password") return value(api.POST("/api/me/shown", { body: { password, code, credential: "" } }));
      const { options } = await value(api.POST("/api/sign-in/passkey/begin"));
      return value(api.POST("/api/me/shown", { body: { password: "", code: "", credential: await showPasskey(options) } }));
    },
    onSuccess: () => done(true),
  });
  return (
    <FormDialog
      title="Is it you?"
      text="This cannot easily be undone, and you signed in a while ago. Show again who you are; it holds for half an hour."
      close={() => done(false)}
      send={() => show.mutate("password")}
      asked={show.isPending}
      error={show.error}
      action="Go on"
    >
      <Field label="Password">
        <input className={inputLook} type="password" autoFocus autoComplete="current-password" required maxLength={400} value={password} onChange={(e) => setPassword(e.target.value)} />
      </Field>
      {factors.some((one) => one.kind === "app") && (
        <Field label="Code of your app">
          <input className={`${inputLook} font-mono`} inputMode="numeric" autoComplete="one-time-code" maxLength={40} value={code} onChange={(e) => setCode(e.target.value)} />
        </Field>
      )}
      {factors.some((one) => one.kind === "passkey") && hasPasskeys() && (
        <Button className="self-start" onClick={() => show.mutate("passkey")}>
          Use a passkey instead
        </Button>
      )}
    </FormDialog>
  );
}
