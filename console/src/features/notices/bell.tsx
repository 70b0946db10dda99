import * as Menu from "@radix-ui/react-dropdown-menu";
import { Bell } from "lucide-react";
import { Link } from "react-router";

import { api, value } from "../../api/client";
import { useChange } from "../../api/change";
import { useNow } from "../../api/live";
import { Button } from "../../ui/button";
import { when } from "../../ui/format";
import { GravityMark, NoticeActs, pageOf } from "./notice-row";
import { useNotices, useNoticesStanding } from "./queries";
import { standing } from "./words";

const SHOWN = 12;

/** What is open, at hand on every page: how many ask for hands, and what they are. */
export function NoticesBell() {
  const counts = useNoticesStanding().data;
  const asking = (counts?.act ?? 0) + (counts?.urgent ?? 0);
  const unread = counts?.unread ?? 0;
  return (
    <Menu.Root modal={false}>
      <Menu.Trigger asChild>
        <button
          type="button"
          aria-label={asking ? `Notices: ${asking} ask for hands` : "Notices"}
          className="relative grid h-10 w-10 place-items-center rounded-md hover:bg-sunk"
        >
          <Bell size={20} strokeWidth={1.7} aria-hidden />
          {asking > 0 && (
            <span
              className={`absolute top-0.5 right-0 min-w-4.5 rounded-full px-1 text-center text-xs leading-4.5 font-semibold ${unread > 0 ? "bg-alarm text-ground" : "bg-sunk text-ink outline outline-rule"}`}
            >
              {asking}
            </span>
          )}
        </button>
      </Menu.Trigger>
      <Menu.Portal>
        <Menu.Content
          align="end"
          sideOffset={6}
          aria-label="Notices"
          className="fade-in z-50 w-[min(28rem,94vw)] rounded-lg border border-rule bg-sheet shadow-lg"
        >
          <Opened unread={unread} />
        </Menu.Content>
      </Menu.Portal>
    </Menu.Root>
  );
}

function Opened({ unread }: { unread: number }) {
  const now = useNow(5000);
  const found = useNotices({ open: true, least: "look", limit: 50 });
  const list = found.data ?? [];
  const rank = { urgent: 0, act: 1, look: 2, note: 3 };
  const sorted = [...list].sort((a, b) => rank[a.gravity] - rank[b.gravity] || b.id - a.id);
  const newest = Math.max(0, ...list.map((n) => n.id));
  const read = useChange(() => value(api.POST("/api/notices/read", { params: { query: { up_to: newest } } })), "notices");
  return (
    <>
      <div className="flex items-center justify-between px-4 pt-3 pb-1">
        <span className="font-serif text-lg font-semibold">Notices</span>
        {unread > 0 && newest > 0 && (
          <Button kind="quiet" asked={read.isPending} onClick={() => read.mutate(undefined)}>
            Mark as read
          </Button>
        )}
      </div>
      <ul className="m-0 max-h-[60vh] list-none overflow-auto p-0">
        {!found.isPending && list.length === 0 && <li className="px-4 py-6 text-center text-faded">Nothing asks for anybody.</li>}
        {sorted.slice(0, SHOWN).map((n) => {
          const page = pageOf(n);
          return (
            <li key={n.id} className="flex gap-3 px-4 py-2">
              <span className="pt-1">
                <GravityMark notice={n} />
              </span>
              <div className="flex min-w-0 flex-1 flex-col gap-1.5">
                <span>
                  {page ? (
                    <Menu.Item asChild>
                      <Link to={page} className="text-ink no-underline outline-none hover:underline focus-visible:underline">
                        {n.text}
                      </Link>
                    </Menu.Item>
                  ) : (
                    n.text
                  )}{" "}
                  <span className="text-sm whitespace-nowrap text-faded">{when(n.at, now)}</span>
                </span>
                {n.taken_at && <span className="text-sm text-faded">{standing(n, now)}</span>}
                {(n.gravity === "act" || n.gravity === "urgent") && (n.acts ?? []).length > 0 && (
                  <span className="flex flex-wrap gap-2">
                    <NoticeActs notice={n} few />
                  </span>
                )}
              </div>
            </li>
          );
        })}
      </ul>
      <div className="flex justify-between border-t border-rule px-4 py-2.5 text-sm">
        <Menu.Item asChild>
          <Link to="/notices" className="text-ink">
            All notices{sorted.length > SHOWN ? `, ${sorted.length - SHOWN} more open` : ""}
          </Link>
        </Menu.Item>
        <Menu.Item asChild>
          <Link to="/notices/rules" className="text-faded">
            What I hear of
          </Link>
        </Menu.Item>
      </div>
    </>
  );
}
