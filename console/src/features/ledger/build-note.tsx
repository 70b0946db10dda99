import { useState } from "react";
import { Link } from "react-router";

import { api, type Build, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Field, FormDialog, inputLook } from "../../ui/dialog";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";

/** What people write beside a build, and that it is to be made again. */
export function BuildNote({ build: b }: { build: Build }) {
  const [writing, setWriting] = useState(false);
  const [made, setMade] = useState<number | null>(null);
  const again = useChange(
    () => value(api.POST("/api/builds/again", { body: { builds: [b.id], copies: 1 } })).then((jobs) => setMade(jobs[0]?.id ?? null)),
    "jobs",
  );
  const tags = b.tags ?? [];
  return (
    <Sheet>
      <SheetTitle
        beside={
          <button type="button" className="underline" onClick={() => setWriting(true)}>
            {b.note || tags.length ? "Change" : "Write one"}
          </button>
        }
      >
        Note
      </SheetTitle>
      <div className="px-5 pb-4">
        {b.note ? <p className="m-0 whitespace-pre-wrap">{b.note}</p> : tags.length === 0 && <p className="m-0 text-sm text-faded">Nothing is written beside this build.</p>}
        {tags.length > 0 && (
          <p className="mt-1 mb-0 flex flex-wrap gap-x-3 text-sm">
            {tags.map((t) => (
              <Link key={t} to={`/records/builds?tag=${encodeURIComponent(t)}`}>
                #{t}
              </Link>
            ))}
          </p>
        )}
        <div className="mt-3 flex flex-wrap items-center gap-3 text-sm">
          <Button asked={again.isPending} onClick={() => again.mutate(undefined)}>
            Make it again
          </Button>
          {made !== null && <Link to="/queue">Queued as job {made}</Link>}
        </div>
        <Refusal error={again.error} />
      </div>
      {writing && <Writing build={b} close={() => setWriting(false)} />}
    </Sheet>
  );
}

function Writing({ build: b, close }: { build: Build; close: () => void }) {
  const [note, setNote] = useState(b.note ?? "");
  const [tags, setTags] = useState((b.tags ?? []).join(", "));
  const write = useChange(
    () =>
      value(
        api.PATCH("/api/builds/{number}", {
          params: { path: { number: b.id } },
          body: { note, tags: tags.split(",").map((t) => t.trim().replace(/^#/, "")).filter(Boolean) },
        }),
      ),
    "build",
    "builds",
  );
  return (
    <FormDialog title={`Beside build ${b.id}`} close={close} send={() => write.mutate(undefined, { onSuccess: close })} asked={write.isPending} error={write.error} action="Keep">
      <Field label="Note">
        <textarea className={`${inputLook} min-h-28 py-2`} value={note} onChange={(e) => setNote(e.target.value)} maxLength={2000} />
      </Field>
      <Field label="Tags" hint="Words by which it is found again, with commas between them.">
        <input className={inputLook} value={tags} onChange={(e) => setTags(e.target.value)} />
      </Field>
    </FormDialog>
  );
}
