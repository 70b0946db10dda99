import { useState } from "react";

import { api, type NoticeSettings, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { HowKept, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { KeptPassword, KeptSecret, type Secrecy } from "./kept-secret";

/** The account that the shop chats with, and whether it is in the chat. */
export function ChatSetup({ now }: { now: NoticeSettings }) {
  const had = now.chat;
  const [draft, setDraft] = useState({
    address: had?.address ?? "",
    password: "",
    host: had?.host ?? "",
    port: String(had?.port ?? 5222),
    security: (had?.security ?? "starttls") as Secrecy,
  });
  const [touched, setTouched] = useState(false);
  const set = (change: Partial<typeof draft>) => {
    setDraft((before) => ({ ...before, ...change }));
    setTouched(true);
  };
  const send = useChange(() => {
    const chat = { ...draft, port: Number(draft.port), password: draft.password || null };
    return value(api.PATCH("/api/notice-settings", { body: draft.address ? { chat } : { without: ["chat"] } })).then(() => setTouched(false));
  }, "setup");
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Chat</SheetTitle>
      <form
        className="flex flex-col gap-4 px-5 pb-4"
        onSubmit={(e) => {
          e.preventDefault();
          send.mutate(undefined);
        }}
      >
        <p className="m-0 text-sm text-faded">
          With an account at a chat server (XMPP) the shop tells people and rooms, and answers those who write to it.
          {had && !now.chat_problem && ` It is signed in as ${had.address}.`}
        </p>
        {had && now.chat_problem && (
          <p role="status" className="m-0 text-sm text-alarm">
            Not in the chat: {now.chat_problem}. It is tried again by itself.
          </p>
        )}
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="The shop's chat address">
            <input className={inputLook} type="email" maxLength={400} autoComplete="off" placeholder="prints@chat.shop.example" value={draft.address} onChange={(e) => set({ address: e.target.value })} />
          </Field>
          <KeptPassword label="Its password" has={had?.has_password ?? false} value={draft.password} set={(password) => set({ password })} />
        </div>
        <div className="grid gap-4 sm:grid-cols-[1fr_6rem_9rem]">
          <Field label="Chat server, where the address does not say it">
            <input className={inputLook} maxLength={253} placeholder="found by the address" value={draft.host} onChange={(e) => set({ host: e.target.value })} />
          </Field>
          <Field label="Its port">
            <input className={inputLook} type="number" min={1} max={65535} required value={draft.port} onChange={(e) => set({ port: e.target.value })} />
          </Field>
          <KeptSecret label="Chat kept secret by" value={draft.security} set={(security) => set({ security })} />
        </div>
        <Refusal error={send.error} />
        <div className="flex items-center gap-3">
          {touched && (
            <Button kind="strong" type="submit" asked={send.isPending}>
              {draft.address ? "Set" : "Chat no more"}
            </Button>
          )}
          <HowKept touched={touched} kept={!touched && send.isSuccess} />
        </div>
      </form>
    </Sheet>
  );
}
