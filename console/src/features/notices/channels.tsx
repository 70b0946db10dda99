import { useState } from "react";

import { api, type Channel, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog, Field, FormDialog, inputLook } from "../../ui/dialog";
import { when } from "../../ui/format";
import { More } from "../../ui/more";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useChannelLog, useChannels, useNoticeSettings } from "./queries";

const KIND: Record<Channel["kind"], string> = { page: "The bell", mail: "Mail", webhook: "Webhook", push: "A browser", chat: "Chat", room: "Chat room" };

type Added = "mail" | "chat" | "room" | "webhook";

/** What is asked for each kind that is added by its address. */
const ADDED: Record<Added, { button: string; title: string; text: string; label: string; type: "email" | "url"; example: string }> = {
  mail: {
    button: "Add a mail address…",
    title: "A mail address",
    text: "You are mailed there of what asks for hands; a rule says so, and can say more.",
    label: "Address",
    type: "email",
    example: "maud@shop.example",
  },
  chat: {
    button: "Add a chat address…",
    title: "A chat address",
    text: "You are told there of what asks for hands. What you write from it to the shop's account is answered, and done with your rights: status, pause Anchor, what next.",
    label: "Address",
    type: "email",
    example: "maud@chat.shop.example",
  },
  room: {
    button: "Add a chat room…",
    title: "A chat room",
    text: "All who are in it are told. The room must be there already, and let the shop's account in.",
    label: "Address",
    type: "email",
    example: "floor@rooms.chat.shop.example",
  },
  webhook: {
    button: "Add a webhook…",
    title: "A webhook",
    text: "Each notice is sent there as a CloudEvent, signed with a secret that you see once.",
    label: "URL",
    type: "url",
    example: "https://office.shop.example/prints",
  },
};
const OFFERED: Record<"mine" | "shop", Added[]> = { mine: ["mail", "chat", "webhook"], shop: ["mail", "room", "webhook"] };

/** The ways in which who is signed in is reached, or the shop. */
export function Channels({ whose }: { whose: "mine" | "shop" }) {
  const channels = useChannels();
  const settings = useNoticeSettings().data;
  const [adding, setAdding] = useState<Added | null>(null);
  const [secret, setSecret] = useState("");
  const list = (channels.data ?? []).filter((c) => (whose === "mine" ? c.mine : !c.person));
  return (
    <Sheet className="min-w-0">
      <SheetTitle>{whose === "mine" ? "How I am reached" : "The shop's own channels"}</SheetTitle>
      {channels.error ? (
        <Failed error={channels.error} again={() => channels.refetch()} />
      ) : channels.isPending ? (
        <Loading rows={2} />
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {list.map((c) => (
            <ChannelLine key={c.id} channel={c} told={setSecret} />
          ))}
          {list.length === 0 && <li className="px-5 pb-3 text-faded">{whose === "mine" ? "On the bell, once you are first told of something." : "None: programs and shared mailboxes can hear of everything here."}</li>}
        </ul>
      )}
      {settings && !settings.mail && list.some((c) => c.kind === "mail") && (
        <p className="m-0 border-t border-rule px-5 py-3 text-sm text-alarm">The shop has no mail server yet: Set-up, Notices.</p>
      )}
      {settings && !settings.chat && list.some((c) => c.kind === "chat" || c.kind === "room") && (
        <p className="m-0 border-t border-rule px-5 py-3 text-sm text-alarm">The shop has no chat account yet: Set-up, Notices.</p>
      )}
      <div className="flex flex-wrap gap-2 border-t border-rule px-5 py-3">
        {OFFERED[whose].map((kind) => (
          <Button key={kind} onClick={() => setAdding(kind)}>
            {ADDED[kind].button}
          </Button>
        ))}
      </div>
      {adding && <AddChannel kind={adding} person={whose === "shop" ? "" : null} close={() => setAdding(null)} made={setSecret} />}
      {secret && (
        <Dialog open close={() => setSecret("")} title="The webhook's secret" text="Its receiver checks events with it. It is shown this once.">
          <code className="rounded-md bg-sunk px-3 py-2 break-all select-all">{secret}</code>
          <Button kind="strong" className="self-end" onClick={() => setSecret("")}>
            I have it
          </Button>
        </Dialog>
      )}
    </Sheet>
  );
}

function ChannelLine({ channel: c, told }: { channel: Channel; told: (secret: string) => void }) {
  const [log, setLog] = useState(false);
  const [removing, setRemoving] = useState(false);
  const here = { params: { path: { number: c.id } } };
  const test = useChange(() => value(api.POST("/api/channels/{number}/test", here)), "channels", "first-steps");
  const turn = useChange((on: boolean) => value(api.PATCH("/api/channels/{number}", { ...here, body: { on } })), "channels");
  const again = useChange(() => value(api.POST("/api/channels/{number}/again", here)), "channels");
  const remove = useChange(() => value(api.DELETE("/api/channels/{number}", here)), "channels", "notice-rules");
  const renew = useChange(() => value(api.POST("/api/channels/{number}/secret", here)).then((made) => told(made.secret ?? "")), "channels");
  const tried = test.data as { good: boolean; answer: string } | undefined;
  const page = c.kind === "page";
  const unnamed = page || c.name === c.kind;
  return (
    <li className="flex flex-col gap-1.5 px-5 py-3">
      <div className="flex flex-wrap items-baseline justify-between gap-x-4">
        <span className="min-w-0">
          <span className="font-medium">{unnamed ? KIND[c.kind] : c.name}</span>{" "}
          <span className="text-sm break-all text-faded">{page ? "on every page" : unnamed ? c.address : `${KIND[c.kind].toLowerCase()}, ${c.address}`}</span>
        </span>
        <span className="text-sm text-faded">{[!c.on && "off", c.waiting > 0 && `${c.waiting} waiting`].filter(Boolean).join(", ")}</span>
      </div>
      {c.problem && c.on && <p className="m-0 text-sm text-alarm">Does not arrive: {c.problem}. It is tried again by itself.</p>}
      {c.dead > 0 && (
        <p className="m-0 text-sm text-alarm">
          {c.dead} given up.{" "}
          <button type="button" className="underline" onClick={() => again.mutate(undefined)}>
            Send again
          </button>
        </p>
      )}
      {tried && (
        <p role="status" className={`m-0 text-sm ${tried.good ? "text-faded" : "text-alarm"}`}>
          {tried.good ? "The test arrived" : "The test did not arrive"}: {tried.answer}
        </p>
      )}
      <div className="-ml-3.5 flex flex-wrap">
        {!page && (
          <Button kind="quiet" asked={test.isPending} onClick={() => test.mutate(undefined)}>
            Test
          </Button>
        )}
        {!page && (
          <Button kind="quiet" onClick={() => setLog(true)}>
            Log
          </Button>
        )}
        {c.kind === "webhook" && (
          <Button kind="quiet" asked={renew.isPending} onClick={() => renew.mutate(undefined)}>
            New secret
          </Button>
        )}
        <Button kind="quiet" asked={turn.isPending} onClick={() => turn.mutate(!c.on)}>
          {c.on ? "Turn off" : "Turn on"}
        </Button>
        {!page && (
          <Button kind="quiet" onClick={() => setRemoving(true)}>
            Remove…
          </Button>
        )}
      </div>
      <Refusal error={test.error ?? turn.error ?? again.error ?? renew.error} />
      {log && <Log channel={c} close={() => setLog(false)} />}
      {removing && (
        <FormDialog
          title={`Remove ${c.name}?`}
          text="Its log and rules that tell over it alone go with it; what waits is not sent."
          close={() => setRemoving(false)}
          send={() => remove.mutate(undefined)}
          asked={remove.isPending}
          error={remove.error}
          action="Remove"
          kind="danger"
        >
          {null}
        </FormDialog>
      )}
    </li>
  );
}

function AddChannel(props: { kind: Added; person: string | null; close: () => void; made: (secret: string) => void }) {
  const [name, setName] = useState("");
  const [address, setAddress] = useState("");
  const add = useChange(
    () =>
      value(api.POST("/api/channels", { body: { kind: props.kind, name, address: address.trim(), person: props.person } })).then((made) => {
        props.close();
        if (made.secret) props.made(made.secret);
      }),
    "channels",
    "notice-rules",
  );
  const asked = ADDED[props.kind];
  return (
    <FormDialog
      title={asked.title}
      text={asked.text}
      close={props.close}
      send={() => add.mutate(undefined)}
      asked={add.isPending}
      error={add.error}
      action="Add"
    >
      <Field label={asked.label}>
        <input
          className={inputLook}
          type={asked.type}
          required
          maxLength={400}
          placeholder={asked.example}
          value={address}
          onChange={(e) => setAddress(e.target.value)}
        />
      </Field>
      <Field label="Name">
        <input className={inputLook} maxLength={60} placeholder={props.kind} value={name} onChange={(e) => setName(e.target.value)} />
      </Field>
    </FormDialog>
  );
}

/** Each try to send, and what was answered. */
function Log({ channel: c, close }: { channel: Channel; close: () => void }) {
  const log = useChannelLog(c.id);
  return (
    <Dialog open wide close={close} title={`What was sent over ${c.name}`} text="Real time, newest first.">
      {log.error ? (
        <Failed error={log.error} />
      ) : log.isPending ? (
        <Loading rows={5} height="h-9" />
      ) : log.data?.length === 0 ? (
        <p className="m-0 text-faded">Nothing yet. Press Test to see whether it arrives.</p>
      ) : (
        <div className="max-h-[60vh] overflow-auto">
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {log.data?.map((one) => (
              <li key={one.id} className="grid gap-x-4 py-2 text-sm sm:grid-cols-[8.5rem_1fr]">
                <span className="text-faded">{when(one.at, new Date())}</span>
                <span className="min-w-0">
                  <span>{one.subject}</span> <span className="text-faded">{one.notices > 1 && `${one.notices} notices`}</span>
                  <span className={`block break-words ${one.good ? "text-faded" : "text-alarm"}`}>
                    {one.good ? "taken" : "failed"}: {one.answer}
                  </span>
                </span>
              </li>
            ))}
          </ul>
          <More of={log} />
        </div>
      )}
    </Dialog>
  );
}
