import { useState } from "react";

import { api, type Machine, value } from "../../api/client";
import { useChange } from "../../api/change";
import { usePlanning } from "../planning/queries";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { Refusal } from "../../ui/page";

/** The bed is clear: what came of the build? */
export function ClearDialog({
  machine,
  build,
  close,
}: {
  machine: string;
  build: NonNullable<Machine["build"]>;
  close: () => void;
}) {
  const [scrap, setScrap] = useState(false);
  const [reason, setReason] = useState("");
  const reasons = usePlanning().data?.scrap_reasons ?? [];
  const judge = useChange(
    (verdict: "good" | "scrap") =>
      value(
        api.POST("/api/builds/{number}/verdict", {
          params: { path: { number: build.id } },
          body: { verdict, reason: verdict === "scrap" ? reason : "" },
        }),
      ).then(close),
    "jobs",
    "builds",
    "plan",
    "orders",
  );
  return (
    <Dialog
      open
      close={close}
      title={`${machine}: is the bed clear?`}
      text={`Build ${build.id}, ${build.file}, ${build.outcome ?? "ended"}. Lift the part off, then say what came of it.`}
    >
      {scrap && (
        <Field label="What was wrong with it?" hint="The copy goes back to the queue.">
          <input
            className={inputLook}
            list="scrap-reasons"
            autoFocus
            value={reason}
            onChange={(e) => setReason(e.target.value)}
            maxLength={300}
          />
        </Field>
      )}
      <datalist id="scrap-reasons">
        {reasons.map((r) => (
          <option key={r} value={r} />
        ))}
      </datalist>
      <Refusal error={judge.error} />
      <div className="flex flex-wrap justify-end gap-2">
        {scrap ? (
          <>
            <Button kind="quiet" onClick={() => setScrap(false)}>
              Back
            </Button>
            <Button kind="danger" asked={judge.isPending} disabled={!reason.trim()} onClick={() => judge.mutate("scrap")}>
              Clear, scrap
            </Button>
          </>
        ) : (
          <>
            <Button kind="quiet" onClick={close}>
              Not yet
            </Button>
            <Button kind="danger" onClick={() => setScrap(true)}>
              Scrap…
            </Button>
            <Button kind="strong" asked={judge.isPending} onClick={() => judge.mutate("good")}>
              Clear, part is good
            </Button>
          </>
        )}
      </div>
    </Dialog>
  );
}
