import { useState } from "react";

import { api, type Finding, type LibraryFile, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Sheet, SheetTitle } from "../../ui/page";

/** What stands against the file, and who set it aside. */
export function Preflight({ file }: { file: LibraryFile }) {
  const findings = file.reading.findings ?? [];
  const [asking, setAsking] = useState<Finding | null>(null);
  if (findings.length === 0)
    return (
      <Sheet className="px-5 py-3.5">
        <strong>Preflight</strong> <span className="text-faded">· nothing stands against it on {file.reading.model || "a machine"}.</span>
      </Sheet>
    );
  const look = { refuse: "text-alarm font-semibold", warning: "font-semibold", note: "text-faded" };
  return (
    <Sheet>
      <SheetTitle beside={file.reading.model}>Preflight</SheetTitle>
      <ul className="m-0 list-none divide-y divide-rule p-0 px-5 pb-3">
        {findings.map((x) => (
          <li key={`${x.rule}${x.line}${x.text}`} className="py-2">
            <span className={x.overruled ? "text-faded" : look[x.severity]}>
              {x.overruled ? "overruled" : x.severity === "refuse" ? "refused" : x.severity}
            </span>
            {x.line > 0 && <span className="text-faded"> · line {x.line}</span>}
            <div>{x.text}</div>
            {x.overruled && <div className="text-sm text-faded">by {x.overruled}</div>}
            {x.severity === "refuse" && !x.overruled && (
              <Button needs="overrule" className="mt-1.5" onClick={() => setAsking(x)}>
                Overrule…
              </Button>
            )}
          </li>
        ))}
      </ul>
      {asking && <Overrule file={file} finding={asking} close={() => setAsking(null)} />}
    </Sheet>
  );
}

function Overrule({ file, finding, close }: { file: LibraryFile; finding: Finding; close: () => void }) {
  const [reason, setReason] = useState("");
  const model = file.reading.model ?? "";
  const send = useChange(
    () =>
      value(
        api.POST("/api/files/{which}/overrule", {
          params: { path: { which: String(file.id) } },
          body: { model, rule: finding.rule, reason },
        }),
      ).then(close),
    "files",
    "jobs",
  );
  return (
    <FormDialog
      title="Overrule the preflight?"
      text={`${finding.text} It will run on ${model} all the same; your name and reason are recorded.`}
      close={close}
      send={() => send.mutate(undefined)}
      asked={send.isPending}
      error={send.error}
      action="Overrule"
      kind="danger"
    >
      <Field label="Reason">
        <input autoFocus required minLength={3} className={inputLook} value={reason} onChange={(e) => setReason(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
