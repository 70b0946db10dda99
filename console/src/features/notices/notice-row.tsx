import { useState } from "react";
import { Link } from "react-router";

import { api, type Notice, type NoticeAct, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { FormDialog } from "../../ui/dialog";
import { when } from "../../ui/format";
import { Refusal } from "../../ui/page";
import { useTold } from "./queries";
import { ACT, asksForHands, ASKS_FIRST, GRAVITY, standing } from "./words";

/** How grave it is, by colour and by form: hollow, half, full, full with a ring. */
export function GravityMark({ notice: n }: { notice: Notice }) {
  const asks = asksForHands(n);
  const look = { note: "border border-faded", look: "border-2 border-faded", act: "", urgent: "" }[n.gravity];
  const full = n.gravity === "act" || n.gravity === "urgent";
  const colour = full ? (asks ? "bg-alarm" : "bg-faded") : "";
  return (
    <span
      role="img"
      aria-label={GRAVITY[n.gravity]}
      title={GRAVITY[n.gravity]}
      className={`inline-block h-2.5 w-2.5 shrink-0 rounded-full ${look} ${colour} ${n.gravity === "urgent" ? "outline-2 outline-offset-2 outline-alarm" : ""}`}
    />
  );
}

/** Where what a notice is about can be seen. */
export const pageOf = (n: Notice) =>
  n.build ? `/builds/${n.build}` : n.order ? `/orders/${n.order}` : n.machine ? `/machines/${n.machine}` : null;

/** What can be done about a notice at once. What cannot be undone asks first. */
export function NoticeActs({ notice: n, few = false }: { notice: Notice; few?: boolean }) {
  const [asked, setAsked] = useState<NoticeAct | null>(null);
  const act = useChange(
    (which: NoticeAct) =>
      value(api.POST("/api/notices/{number}/acts/{act}", { params: { path: { number: n.id, act: which } } })).then(() => setAsked(null)),
    "notices",
    "machine",
    "suspicions",
  );
  const back = useChange(() => value(api.DELETE("/api/notices/{number}/acts/going", { params: { path: { number: n.id } } })), "notices");
  const all = (n.acts ?? []).filter((a) => a !== "missed"); // the build's page asks what, and at which frame
  const acts = few ? all.slice(0, 2) : all;
  if (acts.length === 0 && !n.taken_at) return null;
  return (
    <>
      {acts.map((a, i) => (
        <Button
          needs="operate"
          key={a}
          kind={a === "stop" ? "danger" : i === 0 ? "strong" : "plain"}
          asked={act.isPending && act.variables === a}
          onClick={() => (ASKS_FIRST[a] ? setAsked(a) : act.mutate(a))}
        >
          {ACT[a]}
        </Button>
      ))}
      {n.taken_at && !n.closed_at && !few && (
        <Button kind="quiet" asked={back.isPending} onClick={() => back.mutate(undefined)}>
          Nobody goes after all
        </Button>
      )}
      {!asked && <Refusal error={act.error ?? back.error} />}
      {asked && (
        <FormDialog
          title={`${ACT[asked]}?`}
          text={`${n.text}. ${ASKS_FIRST[asked] ?? ""}`}
          close={() => setAsked(null)}
          send={() => act.mutate(asked)}
          asked={act.isPending}
          error={act.error}
          action={ACT[asked]}
          kind={asked === "stop" ? "danger" : "strong"}
        >
          {null}
        </FormDialog>
      )}
    </>
  );
}

/** One notice of the list, with its picture and, opened, whom it reached. */
export function NoticeRow({ notice: n, now }: { notice: Notice; now: Date }) {
  const [open, setOpen] = useState(false);
  const page = pageOf(n);
  const over = !!n.closed_at && n.closed_at !== n.at;
  const stands = standing(n, now);
  const close = useChange(() => value(api.POST("/api/notices/{number}/close", { params: { path: { number: n.id } } })), "notices");
  return (
    <li className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-2 px-5 py-2.5 sm:grid-cols-[auto_6.5rem_1fr_auto]">
      <span className="pt-1.5">
        <GravityMark notice={n} />
      </span>
      <span className="text-sm whitespace-nowrap text-faded sm:pt-0.5">{when(n.at, now)}</span>
      <div className="col-start-2 flex min-w-0 flex-col gap-2 sm:col-start-3">
        <p className={`m-0 ${asksForHands(n) ? "font-medium" : ""} ${over ? "text-faded" : ""}`}>
          {page ? (
            <Link to={page} className="text-inherit no-underline hover:underline">
              {n.text}
            </Link>
          ) : (
            n.text
          )}
          {n.unread && asksForHands(n) && <span className="ml-2 text-sm font-normal text-faded">new</span>}
          {stands && <span className="ml-3 text-sm font-normal whitespace-nowrap text-faded">{stands}</span>}
        </p>
        {!n.closed_at && (n.acts?.length || n.taken_at || n.by_hand) ? (
          <div className="flex flex-wrap items-center gap-2">
            <NoticeActs notice={n} />
            {n.by_hand && (
              <Button needs="operate" kind="quiet" asked={close.isPending} onClick={() => close.mutate(undefined)}>
                Dealt with
              </Button>
            )}
          </div>
        ) : null}
        {open && <Reached number={n.id} now={now} />}
      </div>
      <div className="col-start-2 flex flex-col items-start gap-2 sm:col-start-4 sm:row-start-1 sm:items-end">
        <button type="button" aria-expanded={open} className="text-sm text-faded underline" onClick={() => setOpen(!open)}>
          {open ? "less" : "whom it reached"}
        </button>
        {n.frame && !over && (
          <img
            src={`/api/frames/${n.frame}`}
            alt="What the camera saw"
            loading="lazy"
            className="aspect-video w-full max-w-64 rounded-md bg-sunk object-cover sm:w-44"
          />
        )}
      </div>
    </li>
  );
}

function Reached({ number, now }: { number: number; now: Date }) {
  const told = useTold(number);
  if (!told.data) return <p className="m-0 text-sm text-faded">{told.error ? told.error.message : "Looking…"}</p>;
  if (told.data.length === 0) return <p className="m-0 text-sm text-faded">Nobody has a rule that asks for it.</p>;
  return (
    <ul className="m-0 list-none p-0 text-sm">
      {told.data.map((t) => (
        <li key={`${t.channel} ${t.what}`} className="flex flex-wrap gap-x-3 text-faded">
          <span className="text-ink">{t.person || "the shop"}</span>
          <span>{t.name}</span>
          <span>{t.what === "opened" ? "" : t.what}</span>
          <span>{t.state === "sent" ? `told ${t.sent_at ? when(t.sent_at, now) : ""}` : t.state === "dead" ? `given up: ${t.answer}` : `waits${t.answer ? `: ${t.answer}` : ""}`}</span>
        </li>
      ))}
    </ul>
  );
}
