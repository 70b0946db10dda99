import { type FormEvent, useState } from "react";
import { useNavigate } from "react-router";

import { api, type LibraryFile, type Part, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Dialog, Field, inputLook } from "../../ui/dialog";
import { duration, fromLocal } from "../../ui/format";
import { useIdle } from "./follows";
import { NeedsFields, NO_NEEDS, requirement } from "../orders/needs";
import { Refusal } from "../../ui/page";
import { TimeField } from "../../ui/time-field";

function takes({ file, part }: Wanted): string {
  if (file) return `One copy takes ${duration(file.reading.planned_s)} to build.`;
  const times = part?.files?.map((f) => f.reading.planned_s) ?? [];
  const span = [...new Set([Math.min(...times), Math.max(...times)].map(duration))].join(" to ");
  return `A machine that comes free takes the file that fits it: ${span} a build.`;
}

/** Queue copies of a file or part: how many, and what they need. What is left empty is any. */
export interface Wanted {
  name: string;
  /** Exactly one of them. */
  file?: LibraryFile;
  part?: Part;
}

export function QueueDialog({ wanted, close }: { wanted: Wanted; close: () => void }) {
  const { file, part } = wanted;
  const [copies, setCopies] = useState(1);
  const [due, setDue] = useState("");
  const [needs, setNeeds] = useState(NO_NEEDS);
  const [pinned, setPinned] = useState(false);
  const [machine, setMachine] = useState("");
  const idle = useIdle();
  const navigate = useNavigate();
  const submit = useChange(() =>
    value(
      api.POST("/api/jobs", {
        body: {
          file: file?.id ?? null,
          part: part?.id ?? null,
          revision: pinned ? (file?.revision ?? null) : null,
          copies,
          held: false,
          priority: 0,
          note: "",
          due: due ? fromLocal(due).toISOString() : null,
          requirement: requirement(needs) as never,
        },
      }),
    ).then(async (job) => {
      if (machine) await value(api.POST("/api/machines/{name}/start/{job}", { params: { path: { name: machine, job: job.id } } }));
      await navigate(machine ? `/machines/${machine}` : "/queue");
    }),
  "jobs");
  const send = (e: FormEvent) => {
    e.preventDefault();
    submit.mutate(undefined);
  };
  return (
    <Dialog open close={close} title={`Queue ${wanted.name}`} text={takes(wanted)}>
      <form onSubmit={send} className="flex flex-col gap-4">
        <Field label="Copies">
          <input
            className={inputLook}
            type="number"
            min={1}
            max={10000}
            autoFocus
            value={copies}
            onChange={(e) => setCopies(Number(e.target.value))}
          />
        </Field>
        <Field label="Due">
          <TimeField value={due} change={setDue} />
        </Field>
        <div>
          <p className="m-0 mb-1 text-sm font-medium">Needs</p>
          <NeedsFields value={needs} set={(change) => setNeeds({ ...needs, ...change })} />
        </div>
        {file && (
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" checked={pinned} onChange={(e) => setPinned(e.target.checked)} />
            Stay with revision {file.revision}; without this, waiting copies follow the newest
          </label>
        )}
        <Field label="The first begins" hint={idle.length ? undefined : "No machine is idle now."}>
          <select className={inputLook} value={machine} onChange={(e) => setMachine(e.target.value)}>
            <option value="">when its turn comes</option>
            {[...new Set([...idle, machine])].filter(Boolean).map((name) => (
              <option key={name} value={name}>
                now, on {name}
              </option>
            ))}
          </select>
        </Field>
        <Refusal error={submit.error} />
        <div className="flex justify-end gap-2">
          <Button kind="quiet" onClick={close}>
            Cancel
          </Button>
          <Button kind="strong" type="submit" asked={submit.isPending}>
            Queue {copies === 1 ? "1 copy" : `${copies} copies`}
          </Button>
        </div>
      </form>
    </Dialog>
  );
}
