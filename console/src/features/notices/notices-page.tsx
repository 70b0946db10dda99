import { Link } from "react-router";

import type { Gravity, NoticeKind } from "../../api/client";
import { useNow } from "../../api/live";
import { useAddress } from "../../ui/address";
import { Choice } from "../../ui/choice";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Page, Sheet } from "../../ui/page";
import { Pick } from "../../ui/pick";
import { SearchField } from "../../ui/search-field";
import { useMachines } from "../machines/queries";
import { NoticeRow } from "./notice-row";
import { useNoticeKinds, useNotices } from "./queries";
import { GRAVITIES, GRAVITY } from "./words";

/** All notices: what is open, and the history. What is looked for is in the page's address. */
export function NoticesPage() {
  const [get, change] = useAddress();
  const now = useNow(5000);
  const all = get("all") === "1";
  const [search, machine, least, kind] = [get("search"), get("machine"), get("least"), get("kind")];
  const found = useNotices({
    open: all ? undefined : true,
    search: search || undefined,
    machine: machine || undefined,
    least: (least as Gravity) || undefined,
    kind: (kind as NoticeKind) || undefined,
  });
  const kinds = useNoticeKinds().data ?? [];
  const machines = (useMachines().data ?? []).map((m) => m.name).sort();
  const filtered = !!(search || machine || least || kind);
  const list = found.data ?? [];
  return (
    <Page
      title="Notices"
      beside={
        <Link to="/notices/rules" className="text-sm text-faded">
          What I hear of
        </Link>
      }
    >
      <div className="mb-4 flex flex-wrap items-center gap-2">
        <Choice
          label="Which notices"
          options={[
            { key: "", name: "Open" },
            { key: "1", name: "All, with what is over" },
          ]}
          value={all ? "1" : ""}
          choose={(k) => change({ all: k })}
        />
        <SearchField label="Search notices" hint="Words of the text…" words={search} change={(w) => change({ search: w })} className="min-w-56" />
        <Pick
          label="Gravity"
          value={least}
          choose={(g) => change({ least: g })}
          options={[{ key: "", name: "any gravity" }, ...GRAVITIES.slice(1).map((g) => ({ key: g, name: `${GRAVITY[g]} or graver` }))]}
        />
        <Pick label="Kind" value={kind} choose={(k) => change({ kind: k })} options={[{ key: "", name: "any kind" }, ...kinds.map((k) => ({ key: k.kind, name: k.text }))]} />
        <Pick label="Machine" value={machine} choose={(m) => change({ machine: m })} options={[{ key: "", name: "all machines" }, ...machines.map((m) => ({ key: m, name: m }))]} />
      </div>
      <Sheet>
        {found.error ? (
          <Failed error={found.error} again={() => found.refetch()} />
        ) : found.isPending ? (
          <Loading rows={8} />
        ) : list.length === 0 ? (
          <Empty title={filtered ? "No notice fits" : all ? "Nothing yet" : "Nothing is open"}>
            {filtered ? "Take a word away, or choose all of a kind." : all ? "What happens in the shop is noted here." : "Nothing asks for anybody now. What was is under “All”."}
          </Empty>
        ) : (
          <>
            <ul className="m-0 list-none divide-y divide-rule p-0">
              {list.map((n) => (
                <NoticeRow key={n.id} notice={n} now={now} />
              ))}
            </ul>
            <More of={found} />
          </>
        )}
      </Sheet>
    </Page>
  );
}
