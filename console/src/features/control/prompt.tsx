import { api, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useAct } from "./act";

/** What the machine itself waits for a person for, and what may be answered. */
export function MachineAsks({ machine: m }: { machine: MachineDetail }) {
  const answer = useAct(m.name);
  const go = useChange(
    () => value(api.POST("/api/builds/{number}/resume", { params: { path: { number: m.build!.id } } })),
    "machine",
    "builds",
  );
  const choices = m.hands?.choices ?? [];
  return (
    <Sheet className="border-ink">
      <SheetTitle>{choices.length ? "The machine asks" : "The machine waits for somebody"}</SheetTitle>
      <div className="px-5 pb-4">
        <p className="mt-0 mb-3 text-lg">{m.hands?.question || m.hands?.waits}</p>
        <div className="flex flex-wrap gap-2">
          {choices.map((text, choice) => (
            <Button
              key={choice}
              kind={choice ? "plain" : "strong"}
              disabled={answer.isPending}
              asked={answer.isPending && (answer.variables as { choice?: number }).choice === choice}
              onClick={() => answer.mutate({ kind: "answer", choice })}
            >
              {text}
            </Button>
          ))}
          {!choices.length && m.build && !m.build.outcome && (
            <Button kind="strong" asked={go.isPending} onClick={() => go.mutate(undefined)}>
              Go on
            </Button>
          )}
        </div>
        <Refusal error={answer.error ?? go.error} />
      </div>
    </Sheet>
  );
}
