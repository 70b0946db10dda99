import { useState } from "react";

import { api, value } from "../../api/client";
import { useNow } from "../../api/live";
import { useChange } from "../../api/change";
import { useFiles } from "./queries";
import { Button } from "../../ui/button";
import { Dialog } from "../../ui/dialog";
import { size, sum, when } from "../../ui/format";
import { More } from "../../ui/more";
import { Empty, Failed, Loading, Refusal, Sheet } from "../../ui/page";
import { useBatch } from "./batch";
import { LibraryFrame, Thumb } from "./library-frame";

/** What was thrown away and can still be taken out again. */
export function BinPage() {
  const files = useFiles({ binned: true });
  const now = useNow(30_000);
  const back = useBatch();
  const [asking, setAsking] = useState(false);
  const empty = useChange(() => value(api.DELETE("/api/bin")).then(() => setAsking(false)), "files");
  const list = files.data ?? [];
  return (
    <LibraryFrame
      beside={
        list.length > 0 && (
          <Button needs="change_files" kind="danger" onClick={() => setAsking(true)}>
            Empty the bin…
          </Button>
        )
      }
    >
      <Refusal error={back.error} />
      <Sheet className="overflow-hidden">
        {files.error ? (
          <Failed error={files.error} again={() => files.refetch()} />
        ) : files.isPending ? (
          <Loading />
        ) : list.length === 0 ? (
          <Empty title="The bin is empty">Files you put here stay until you empty it.</Empty>
        ) : (
          <ul className="m-0 list-none divide-y divide-rule p-0">
            {list.map((f) => (
              <li key={f.id} className="flex items-center gap-4 px-5 py-3">
                <Thumb file={f} />
                <div className="min-w-0 flex-1">
                  <div className="truncate font-semibold">{f.name}</div>
                  <div className="text-sm text-faded">
                    {size(f.size)} · {f.binned_at && when(f.binned_at, now)}
                  </div>
                </div>
                <Button
                  asked={back.isPending && back.variables?.files[0] === f.id}
                  onClick={() => back.mutate({ files: [f.id], deed: "restore" })}
                >
                  Take out
                </Button>
              </li>
            ))}
          </ul>
        )}
        <More of={files} />
      </Sheet>
      <Dialog
        open={asking}
        close={() => setAsking(false)}
        title={`Throw away ${list.length === 1 ? list[0]?.name : `${list.length} files`} for good?`}
        text={`${size(sum(list.map((f) => f.size)))}. What builds were made from stays reachable from their records.`}
      >
        <Refusal error={empty.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={() => setAsking(false)}>
            Keep them
          </Button>
          <Button kind="danger" asked={empty.isPending} onClick={() => empty.mutate(undefined)}>
            Throw away
          </Button>
        </div>
      </Dialog>
    </LibraryFrame>
  );
}
