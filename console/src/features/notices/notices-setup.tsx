import { useState } from "react";

import { api, type NoticeSettings, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, inputLook } from "../../ui/dialog";
import { Failed, HowKept, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { Channels } from "./channels";
import { ChatSetup } from "./chat-setup";
import { KeptPassword, KeptSecret, type Secrecy } from "./kept-secret";
import { useNoticeSettings } from "./queries";
import { Rules } from "./rules";

/** Where links lead, which server takes the shop's mail, and what the shop's own channels are told. */
export function NoticesSetup() {
  const settings = useNoticeSettings();
  return (
    <>
      <MailSetup />
      {settings.data && <ChatSetup key={JSON.stringify(settings.data.chat)} now={settings.data} />}
      <Channels whose="shop" />
      <Rules whose="shop" />
    </>
  );
}

/** Where links lead, and which server takes the shop's mail. */
export function MailSetup() {
  const settings = useNoticeSettings();
  return (
    <Sheet className="min-w-0">
      <SheetTitle>Notices and mail</SheetTitle>
      {settings.error ? <Failed error={settings.error} /> : settings.data ? <Form key={JSON.stringify({ ...settings.data, chat: null, chat_problem: "" })} now={settings.data} /> : <Loading rows={4} />}
    </Sheet>
  );
}

function Form({ now }: { now: NoticeSettings }) {
  const [draft, setDraft] = useState({
    address: now.address,
    local: now.local_webhooks,
    low: String(now.spool_low_g),
    host: now.mail?.host ?? "",
    port: String(now.mail?.port ?? 587),
    security: (now.mail?.security ?? "starttls") as Secrecy,
    login: now.mail?.login ?? "",
    password: "",
    sender: now.mail?.sender ?? "",
  });
  const [touched, setTouched] = useState(false);
  const set = (change: Partial<typeof draft>) => {
    setDraft((before) => ({ ...before, ...change }));
    setTouched(true);
  };
  const send = useChange(() => {
    const mail = draft.host
      ? { host: draft.host, port: Number(draft.port), security: draft.security, login: draft.login, password: draft.password || null, sender: draft.sender }
      : null;
    const without: "mail"[] | null = !mail && now.mail ? ["mail"] : null;
    return value(api.PATCH("/api/notice-settings", { body: { address: draft.address, local_webhooks: draft.local, spool_low_g: Number(draft.low), mail, without } })).then(() => setTouched(false));
  }, "setup");
  return (
    <form
      className="flex flex-col gap-4 px-5 pb-4"
      onSubmit={(e) => {
        e.preventDefault();
        send.mutate(undefined);
      }}
    >
      <div className="grid gap-4 sm:grid-cols-[1fr_10rem]">
        <Field label="Address of this service, for links in messages" hint={draft.address ? undefined : "Without it messages have no links."}>
          <input className={inputLook} type="url" placeholder="https://prints.shop.example" value={draft.address} onChange={(e) => set({ address: e.target.value })} />
        </Field>
        <Field label="A spool is low below, g">
          <input className={inputLook} type="number" min={0} max={100000} step="any" required value={draft.low} onChange={(e) => set({ low: e.target.value })} />
        </Field>
      </div>
      <div className="grid gap-4 sm:grid-cols-[1fr_6rem_9rem]">
        <Field label="Mail server">
          <input className={inputLook} maxLength={253} placeholder="mail.shop.example" value={draft.host} onChange={(e) => set({ host: e.target.value })} />
        </Field>
        <Field label="Port">
          <input className={inputLook} type="number" min={1} max={65535} value={draft.port} onChange={(e) => set({ port: e.target.value })} />
        </Field>
        <KeptSecret label="Kept secret by" value={draft.security} set={(security) => set({ security })} />
      </div>
      <div className="grid gap-4 sm:grid-cols-3">
        <Field label="Sender">
          <input className={inputLook} type="email" required={!!draft.host} placeholder="prints@shop.example" value={draft.sender} onChange={(e) => set({ sender: e.target.value })} />
        </Field>
        <Field label="Signs in as">
          <input className={inputLook} maxLength={200} autoComplete="off" value={draft.login} onChange={(e) => set({ login: e.target.value })} />
        </Field>
        <KeptPassword label="Password" has={now.mail?.has_password ?? false} value={draft.password} set={(password) => set({ password })} />
      </div>
      <label className="flex items-center gap-2 text-sm">
        <input type="checkbox" checked={draft.local} onChange={(e) => set({ local: e.target.checked })} />
        Webhooks may lead to this computer itself and its own network link
      </label>
      <Refusal error={send.error} />
      <div className="flex items-center gap-3">
        {touched && (
          <Button kind="strong" type="submit" asked={send.isPending}>
            Set
          </Button>
        )}
        <HowKept touched={touched} kept={!touched && send.isSuccess} />
      </div>
    </form>
  );
}
