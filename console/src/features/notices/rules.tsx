import { useState } from "react";

import { api, type Channel, type NoticeRule, type NoticeRuleView, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Failed, Loading, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useChannels, useNoticeKinds, useNoticeRules } from "./queries";
import { RuleDialog } from "./rule-dialog";
import { GRAVITY, whenSaid } from "./words";

/** A rule that tells of all that asks for hands. */
const FRESH: NoticeRule = {
  name: "", on: true, kinds: [], least: "act", machines: [], pools: [], sites: [], orders: [], percent: [50], minutes_before: [15],
  channels: [], during: "always", begin: "08:00", end: "18:00", days: [0, 1, 2, 3, 4], quiet: null, pace: "at-once", every_min: 30,
  daily_at: "08:00", next_steps: [],
};

/** The rules of who is signed in, or of the shop. */
export function Rules({ whose }: { whose: "mine" | "shop" }) {
  const rules = useNoticeRules();
  const channels = useChannels().data ?? [];
  const [edited, setEdited] = useState<NoticeRuleView | "new" | null>(null);
  const [undo, setUndo] = useState<NoticeRule | null>(null);
  const add = useChange(
    (rule: NoticeRule) => value(api.POST("/api/notice-rules", { body: { rule, person: whose === "shop" ? "" : null } })).then(() => setUndo(null)),
    "notice-rules",
  );
  const list = (rules.data ?? []).filter((r) => (whose === "mine" ? r.mine : !r.person));
  const mine = channels.filter((c) => (whose === "mine" ? c.mine : !c.person));
  const title = whose === "mine" ? "Rules" : "What the shop's channels are told";
  return (
    <Sheet className="min-w-0">
      <SheetTitle beside={list.length > 0 && `${list.length} ${list.length === 1 ? "rule" : "rules"}`}>{title}</SheetTitle>
      {rules.error ? (
        <Failed error={rules.error} again={() => rules.refetch()} />
      ) : rules.isPending ? (
        <Loading rows={3} />
      ) : list.length === 0 ? (
        <p className="m-0 px-5 pb-3 text-faded">
          {whose === "mine" ? "Nothing is set: you hear on this page’s bell of what asks for hands." : "Nothing: a channel of the shop’s comes with a rule."}
        </p>
      ) : (
        <ul className="m-0 list-none divide-y divide-rule p-0">
          {list.map((r) => (
            <RuleLine key={r.id} view={r} channels={mine} edit={() => setEdited(r)} removed={setUndo} />
          ))}
        </ul>
      )}
      <div className="flex flex-wrap items-center gap-3 border-t border-rule px-5 py-3">
        {(whose === "mine" || mine.length > 0) && <Button onClick={() => setEdited("new")}>Add a rule…</Button>}
        {undo && (
          <span className="text-sm text-faded">
            Removed.{" "}
            <button type="button" className="underline" onClick={() => add.mutate(undo)}>
              Put it back
            </button>
          </span>
        )}
        <Refusal error={add.error} />
      </div>
      {edited && (
        <RuleDialog
          rule={edited === "new" ? { ...FRESH, channels: whose === "shop" ? mine.slice(0, 1).map((c) => c.id) : [] } : edited.rule}
          number={edited === "new" ? null : edited.id}
          person={whose === "shop" ? "" : null}
          channels={mine}
          close={() => setEdited(null)}
        />
      )}
    </Sheet>
  );
}

function RuleLine(props: { view: NoticeRuleView; channels: Channel[]; edit: () => void; removed: (rule: NoticeRule) => void }) {
  const { id, rule: r } = props.view;
  const change = useChange(
    (on: boolean) => value(api.PUT("/api/notice-rules/{number}", { params: { path: { number: id } }, body: { ...r, on } })),
    "notice-rules",
  );
  const remove = useChange(
    () => value(api.DELETE("/api/notice-rules/{number}", { params: { path: { number: id } } })).then(() => props.removed(r)),
    "notice-rules",
  );
  const over = (r.channels ?? []).map((n) => props.channels.find((c) => c.id === n)?.name ?? `channel ${n}`);
  const steps = r.next_steps ?? [];
  return (
    <li className={`flex flex-wrap items-start justify-between gap-x-4 gap-y-2 px-5 py-3 ${r.on ? "" : "text-faded"}`}>
      <div className="min-w-0 flex-1 basis-72">
        <p className="m-0 font-medium">
          {r.name || "A rule"}
          {!r.on && <span className="ml-2 text-sm font-normal">off</span>}
        </p>
        <p className="m-0 text-sm">
          <What rule={r} /> · over {over.length ? over.join(", ") : "the bell"}
        </p>
        <p className="m-0 text-sm text-faded">
          {whenSaid(r)}
          {steps.map((s) => `; nobody goes for ${s.after_min} min: ${s.person || (props.channels.find((c) => c.id === s.channel)?.name ?? "another channel")}`)}
        </p>
        <Refusal error={change.error ?? remove.error} />
      </div>
      <div className="flex gap-1">
        <Button kind="quiet" asked={change.isPending} onClick={() => change.mutate(!r.on)}>
          {r.on ? "Turn off" : "Turn on"}
        </Button>
        <Button kind="quiet" onClick={props.edit}>
          Change…
        </Button>
        <Button kind="quiet" asked={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Remove
        </Button>
      </div>
    </li>
  );
}

/** What a rule is about, in words. */
function What({ rule: r }: { rule: NoticeRule }) {
  const kinds = useNoticeKinds().data ?? [];
  const named = (r.kinds ?? []).map((k) => kinds.find((x) => x.kind === k)?.text ?? k);
  const what = named.length > 3 ? `${named.slice(0, 2).join(", ")} and ${named.length - 2} more` : named.join(", ");
  const where = [
    [(r.machines ?? []).join(", "), ""],
    [(r.pools ?? []).join(", "), "pool "],
    [(r.sites ?? []).join(", "), "at "],
    [(r.orders ?? []).join(", "), "order "],
  ]
    .filter(([names]) => names)
    .map(([names, word]) => `${word}${names}`);
  const grave = r.least && r.least !== "note" ? `${what ? ", " : ""}${GRAVITY[r.least]}${r.least === "urgent" ? "" : " or graver"}` : "";
  return <>{[`${what || (grave ? "" : "everything")}${grave}`, ...where].join(" · ")}</>;
}
