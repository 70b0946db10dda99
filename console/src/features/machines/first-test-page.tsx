import { Check } from "lucide-react";
import { type ReactNode, useState } from "react";
import { Link, useParams } from "react-router";

import { api, type MachineDetail, value } from "../../api/client";
import { useChange } from "../../api/change";
import { Button } from "../../ui/button";
import { degrees } from "../../ui/format";
import { Failed, Loading, Page, Refusal, Sheet, SheetTitle } from "../../ui/page";
import { useAct } from "../control/act";
import { Frame as CameraFrame } from "../watching/camera";
import { useMachineNow } from "./queries";

const WARM_C = 40;
const NEAR_C = 2;
const STEP_MM = 10;

type Axis = "x" | "y" | "z";
/** For each axis: which way a move by a positive length is to go for somebody in front of the machine, and the other way. */
const WAYS: Record<Axis, { right: string; wrong: string }> = {
  x: { right: "to the right", wrong: "to the left" },
  y: { right: "away from me", wrong: "towards me" },
  z: { right: "nozzle and bed came apart", wrong: "they came closer" },
};

/** A machine that has just joined is tried, a step at a time: nothing of it needs a part. */
export function FirstTestPage() {
  const name = useParams().name ?? "";
  const machine = useMachineNow(name);
  if (machine.error) return <Failed error={machine.error} again={machine.again} />;
  if (!machine.data) return <Loading />;
  return <Steps machine={machine.data} />;
}

function Steps({ machine: m }: { machine: MachineDetail }) {
  const [done, setDone] = useState<Record<string, string>>({});
  const tell = (step: string) => (what: string) => setDone((before) => ({ ...before, [step]: what }));
  const locked = !m.reachable || !!m.build || m.state === "down" || m.state === "offline";
  return (
    <Page title={`First test of ${m.name}`} beside={<Link to={`/machines/${m.name}`}>To its page</Link>}>
      <div className="mx-auto flex max-w-3xl flex-col gap-5">
        {locked &&
          (m.build ? (
            <p className="m-0 rounded-md bg-sunk px-4 py-2.5">A build is on it: it is tried while none is.</p>
          ) : (
            <p className="m-0 rounded-md bg-alarm-wash px-4 py-2.5 text-alarm">It cannot be reached, or is down. See to it first.</p>
          ))}
        <Step title="It heats" done={done.heat}>
          <Heat machine={m} locked={locked} told={tell("heat")} />
        </Step>
        <Step title="It finds its home" done={done.home}>
          <Home machine={m} locked={locked} told={tell("home")} />
        </Step>
        {(["x", "y", "z"] as const).map((axis) => (
          <Step key={axis} title={`It moves along ${axis}`} done={done[axis]}>
            <Move machine={m} axis={axis} locked={locked || !m.hands?.position_mm} told={tell(axis)} />
          </Step>
        ))}
        <Step title="It is seen" done={m.camera ? `by the camera ${m.camera}` : undefined}>
          {m.camera ? (
            <CameraFrame machine={m} className="max-h-64 rounded-md" />
          ) : (
            <p className="m-0">
              No camera looks at it. One can be added in <Link to="/setup#cameras">Set-up</Link>; without one nothing watches its builds.
            </p>
          )}
        </Step>
        <Step title="Its first file">
          <p className="m-0">
            Add a sliced file to <Link to="/library">the library</Link> and queue a copy: it begins by itself once its bed is clear.
          </p>
        </Step>
      </div>
    </Page>
  );
}

function Step({ title, done, children }: { title: string; done?: string; children: ReactNode }) {
  return (
    <Sheet>
      <SheetTitle
        beside={
          done && (
            <span className="inline-flex items-center gap-1.5">
              <Check size={15} aria-hidden /> {done}
            </span>
          )
        }
      >
        {title}
      </SheetTitle>
      <div className="flex flex-col gap-3 px-5 pb-4">{children}</div>
    </Sheet>
  );
}

interface Part {
  machine: MachineDetail;
  locked: boolean;
  told: (what: string) => void;
}

function Heat({ machine: m, locked, told }: Part) {
  const run = useAct(m.name);
  const [begun, setBegun] = useState(false);
  const { nozzle, bed } = m.reading ?? {};
  const hasBed = (m.model_detail.bed_ceiling_c ?? 0) >= WARM_C;
  const warm = (c?: number | null) => c != null && c >= WARM_C - NEAR_C;
  const [there, setThere] = useState(false);
  if (begun && !there && warm(nozzle?.measured_c) && (!hasBed || warm(bed?.measured_c))) setThere(true);
  const off = () =>
    run.mutate({ kind: "preset", material: "" } as never, {
      onSuccess: () => {
        setBegun(false);
        told(there ? `to ${WARM_C} °C, and off again` : "not to the end");
      },
    });
  return (
    <>
      <p className="m-0">
        Nozzle {degrees(nozzle?.measured_c)}
        {hasBed && `, bed ${degrees(bed?.measured_c)}`}. {begun ? (there ? "Both are warm: it can be turned off." : `On the way to ${WARM_C} °C…`) : `It is warmed to ${WARM_C} °C, which nobody burns at, and turned off again.`}
      </p>
      <Refusal error={run.error} />
      <div className="flex gap-2">
        {begun ? (
          <Button kind={there ? "strong" : "plain"} asked={run.isPending} onClick={off}>
            Turn it off
          </Button>
        ) : (
          <Button kind="strong" disabled={locked} asked={run.isPending} onClick={() => run.mutate({ kind: "adjust", nozzle_c: WARM_C, ...(hasBed ? { bed_c: WARM_C } : {}) } as never, { onSuccess: () => void (setBegun(true), setThere(false)) })}>
            Heat to {WARM_C} °C
          </Button>
        )}
      </div>
    </>
  );
}

function Home({ machine: m, locked, told }: Part) {
  const run = useAct(m.name, "level");
  const at = m.hands?.position_mm;
  return (
    <>
      <p className="m-0">{at ? `It says that its head is at x ${at[0]!.toFixed(1)}, y ${at[1]!.toFixed(1)}, z ${at[2]!.toFixed(1)} mm.` : "Its head drives to the end of each axis. Keep a hand at its switch the first time."}</p>
      <Refusal error={run.error} />
      <div>
        <Button kind={at ? "plain" : "strong"} disabled={locked} asked={run.isPending} onClick={() => run.mutate({ kind: "home", axes: "" } as never, { onSuccess: () => told("homed") })}>
          {at ? "Home it again" : "Home it"}
        </Button>
      </div>
    </>
  );
}

function Move({ machine: m, axis, locked, told }: Part & { axis: Axis }) {
  const run = useAct(m.name, "level");
  const [moved, setMoved] = useState(false);
  const now = (m.model_detail.reversed_axes ?? "").toLowerCase();
  const write = useChange(
    (reversed_axes: string) => value(api.PATCH("/api/machines/{name}", { params: { path: { name: m.name } }, body: { reversed_axes } })),
    "machine",
    "machines",
  );
  const { right, wrong } = WAYS[axis];
  const went = (as: boolean) => {
    const axes = as ? now : [...new Set(`${now}${axis}`)].filter((a) => !(a === axis && now.includes(axis))).sort().join("");
    write.mutate(axes, {
      onSuccess: () => {
        setMoved(false);
        told(as ? right : `turned round: ${right} from now on`);
      },
    });
  };
  return (
    <>
      <p className="m-0">{moved ? "Which way did it go?" : locked ? "It has to be homed first." : `It moves by ${STEP_MM} mm; watch which way.`}</p>
      <Refusal error={run.error ?? write.error} />
      <div className="flex flex-wrap gap-2">
        {moved ? (
          <>
            <Button kind="strong" asked={write.isPending} onClick={() => went(true)}>
              {right[0]!.toUpperCase() + right.slice(1)}
            </Button>
            <Button asked={write.isPending} onClick={() => went(false)}>
              {wrong[0]!.toUpperCase() + wrong.slice(1)}
            </Button>
            <Button kind="quiet" onClick={() => setMoved(false)}>
              I did not see it
            </Button>
          </>
        ) : (
          <Button disabled={locked} asked={run.isPending} onClick={() => run.mutate({ kind: "move", x: 0, y: 0, z: 0, [axis]: STEP_MM } as never, { onSuccess: () => setMoved(true) })}>
            Move {axis}
          </Button>
        )}
      </div>
    </>
  );
}
