import type { Machine, MachineState } from "../api/client";

/** What each state means to somebody who walks by. */
export const MEANING: Record<MachineState, string> = {
  idle: "bed clear, can take work",
  warming: "heating and homing",
  building: "laying material",
  paused: "waits to go on",
  cooling: "bed too hot to clear",
  uncleared: "needs hands",
  down: "fault",
  service: "taken out of work",
  offline: "no link",
};

export const STATES = Object.keys(MEANING) as MachineState[];
export const WORKING: MachineState[] = ["warming", "building", "paused"];
const WANTS_HANDS: MachineState[] = ["paused", "uncleared", "down"];

/** A state as its pattern and its word. */
export function StateMark({ state, large = false }: { state: MachineState; large?: boolean }) {
  const strong = WANTS_HANDS.includes(state);
  return (
    <span className="inline-flex items-center gap-2 whitespace-nowrap" title={MEANING[state]}>
      <span
        aria-hidden
        className={`state-bar inline-block rounded-[2px] ${large ? "h-4 w-7" : "h-3 w-5"}`}
        data-state={state}
      />
      <span
        className={`${large ? "text-base" : "text-sm"} ${strong ? "font-semibold" : ""}`}
        style={{ color: strong ? `var(--${state})` : undefined }}
      >
        {state}
      </span>
    </span>
  );
}

export const wantsHands = (m: Machine) => WANTS_HANDS.includes(m.state);

/** All states with their patterns. */
export function StateLegend({ states }: { states: MachineState[] }) {
  return (
    <ul className="flex flex-wrap gap-x-5 gap-y-1.5 text-faded">
      {states.map((state) => (
        <li key={state}>
          <StateMark state={state} />
        </li>
      ))}
    </ul>
  );
}
