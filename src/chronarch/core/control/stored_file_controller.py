"""Controls one machine that takes the whole file and runs it itself, with no I/O: messages in, messages out."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from enum import Enum, auto
from typing import Any

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.actions import Action, Activity, Adjust, AnswerPrompt, check
from chronarch.core.control.checkpoint import BuildCheckpoint, take_up
from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.controller import MachineController
from chronarch.core.control.hands_display import put_back
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.pending_actions import adjustments, offset_steps, take_effect
from chronarch.core.control.planned_pauses import PlannedPauses
from chronarch.core.control.responses import MOST_SENSORS, Temperatures
from chronarch.core.control.stored_file_messages import AGAIN_S, MOST_DAMAGED, FileTransfer, Orders, StoredFileMessage
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineEvent, MachineState, Outcome, WrongState


class StoredFilePhase(Enum):
    RESTING = auto()
    SENDING = auto()
    STARTING = auto()
    RUNNING = auto()


@dataclass(frozen=True)
class StoredFilePhaseRule:
    """What a phase waits for, and what follows it."""

    waits_for: str
    then: str


HEATERS = ("nozzle", "bed", "chamber")
PHASES = {
    StoredFilePhase.RESTING: StoredFilePhaseRule("-", "-"),
    StoredFilePhase.SENDING: StoredFilePhaseRule(
        "the machine to have all pieces", "starting; sending again when the hash is not right"
    ),
    StoredFilePhase.STARTING: StoredFilePhaseRule("the answer to `run`", "running; resting when it is refused"),
    StoredFilePhase.RUNNING: StoredFilePhaseRule("reports of this run", "resting once it is over"),
}


class StoredFileController(MachineController):
    """Controls a machine that runs files itself. `prefix` makes the ids of its orders unlike those of any earlier
    tender."""

    def __init__(self, model: MachineModel, state: MachineState = MachineState.IDLE, *, prefix: str = "o") -> None:
        super().__init__(model, state)
        self.phase = StoredFilePhase.RESTING
        self.machine.watchdog = True
        self._pauses = PlannedPauses(self.machine)
        self._orders = Orders(self.machine, prefix)
        self._transfer = FileTransfer(self.machine, self._orders)
        self._pause_reason = ""
        self._by_itself = False
        self._prepared = False

    # How it stands -------------------------------------------------------------------------------------------

    @property
    def _resting(self) -> bool:
        return self.phase is StoredFilePhase.RESTING

    @property
    def ready(self) -> bool:
        return self._resting and self._orders.here and not self._orders

    @property
    def activity(self) -> Activity:
        if self._resting:
            return Activity.FREE
        return Activity.PAUSED if self.machine.state is MachineState.PAUSED else Activity.BUILDING

    @property
    def suspect(self) -> bool:
        return self._orders.suspect

    @property
    def can_resume(self) -> bool:
        return True

    @property
    def stopping(self) -> bool:
        return self._resting

    @property
    def asked(self) -> list[Adjust]:
        return adjustments(self._orders.pending)

    @property
    def pauses_before(self) -> set[int]:
        return self._pauses.layers

    @property
    def sent_share(self) -> float | None:
        """How much of the file the machine has, while it is being sent."""
        return self._transfer.share if self.phase is StoredFilePhase.SENDING else None

    def kept(self) -> BuildCheckpoint | None:
        m = self.machine
        if m.spec is None or m.progress is None or self._resting:
            return None
        p = m.progress
        return BuildCheckpoint(
            m.spec.build, self.phase.name.lower(), str(m.state), m.spec.sha256, p.acknowledged, reason=m.reason,
            settings=m.settings, pauses_before=tuple(sorted(self.pauses_before)), change=m.change,
            laying_s=p.laying_s, warming_s=p.warming_s, laid_from_s=p.laid_from_s,
        )  # fmt: skip

    # The wire ------------------------------------------------------------------------------------------------

    def outgoing(self) -> list[StoredFileMessage]:
        """Messages to publish now."""
        out = list(self._orders.out)
        self._orders.out.clear()
        return out

    def connected(self, now: Instant) -> None:
        self._pass(now)
        self.connection.lost()

    def disconnected(self, now: Instant) -> None:
        self._pass(now)
        self._orders.here = False
        self._orders.out.clear()
        self.connection.lost()

    def heard(self, topic: str, body: dict[str, Any], now: Instant) -> None:
        """Handle one message of the machine. Messages that do not have the agreed form are ignored."""
        self._pass(now)
        try:
            if topic in TOPICS:
                TOPICS[topic](self, body)
        except (KeyError, TypeError, ValueError) as error:
            text = f"the machine sent a {topic} that is not understood ({type(error).__name__}: {error})"
            self.machine.tell_once(text)

    def tick(self, now: Instant) -> None:
        self._pass(now)
        self.connection.tick()
        self.heaters.tick(resting=self._resting)
        if not self._orders.here:
            return
        self._orders.send_again(AGAIN_S)
        if self.phase is StoredFilePhase.SENDING:
            self._transfer.offer(AGAIN_S)
        if self._resting and not self._orders:
            self.heaters.idle()

    def adopt(self, spec: BuildSpec, kept: BuildCheckpoint, now: Instant) -> None:
        """The report of the machine says how far it is."""
        self._pass(now)
        take_up(self.machine, spec, kept)
        self._pauses.layers = set(kept.pauses_before)
        self._prepared = True
        known = {phase.name.lower(): phase for phase in StoredFilePhase}
        self.phase = known.get(kept.phase, StoredFilePhase.RUNNING)
        if self.phase is StoredFilePhase.STARTING:
            self.phase = StoredFilePhase.SENDING  # a machine does `run` once for each number, however often it is asked

    # What people and the service ask -------------------------------------------------------------------------

    def _begin(self, spec: BuildSpec) -> None:
        self.machine.begin(spec)
        self._pauses.layers = set()
        self._transfer.begin()
        self._pause_reason = ""
        self.phase = StoredFilePhase.SENDING
        self.machine.changed = True
        self._transfer.offer()

    def pause(self, reason: str, now: Instant, *, by_itself: bool = False, heaters_off: bool = False) -> None:
        self._pass(now)
        if self.phase is not StoredFilePhase.RUNNING or self.machine.state is MachineState.PAUSED:
            sending = self.phase in (StoredFilePhase.SENDING, StoredFilePhase.STARTING)
            at = "its file is still on its way" if sending else str(self.machine.state)
            raise WrongState(f"Nothing can be paused: the machine is {at}.")
        self._pause_reason, self._by_itself = reason, by_itself
        self._orders.give(do="pause", heat=not heaters_off)

    def pause_before(self, layer: int, now: Instant) -> None:
        self._pass(now)
        if self._resting or self.machine.progress is None:
            raise WrongState(f"Nothing can be paused: the machine is {self.machine.state}.")
        self._pauses.add(layer, self.machine.progress.acknowledged)

    def no_pause_before(self, layer: int, now: Instant) -> None:
        self._pass(now)
        self._pauses.drop(layer)

    def change_filament(self, reason: str, now: Instant) -> None:
        if self.machine.state is not MachineState.PAUSED:
            self.pause(reason, now)
        self.machine.change, self.machine.changed = "wanted", True

    def resume(self, now: Instant) -> None:
        self._pass(now)
        if self.machine.state is not MachineState.PAUSED or self.phase is not StoredFilePhase.RUNNING:
            raise WrongState("Nothing to resume: the build is not paused and parked.")
        if back := put_back(self.machine):
            self._lines(back)
            self.machine.asks_hands = ""
        self._orders.give(do="resume")

    def stop(self, reason: str, now: Instant, outcome: Outcome = Outcome.STOPPED) -> None:
        self._pass(now)
        if self._resting:
            raise WrongState(f"Nothing can be stopped: the machine is {self.machine.state}.")
        self.machine.ending = (outcome, reason)
        if self.phase is StoredFilePhase.SENDING:
            self._over()
        else:
            self._orders.give(do="stop")

    def emergency(self, now: Instant) -> None:
        self._pass(now)
        self._orders.out.appendleft(self._orders.message(do="halt"))
        self._broken("emergency stop", Outcome.STOPPED)

    def act(self, action: Action, now: Instant, by: str = "") -> InjectedCommands:
        self._pass(now)
        if not self._orders.here:
            raise WrongState("There is no link to the machine.")
        if self.machine.state is MachineState.DOWN:
            raise WrongState("The machine is down; see to it and put it back first.")
        if self.phase in (StoredFilePhase.SENDING, StoredFilePhase.STARTING):
            raise WrongState("The machine is being given its file; try again in a moment.")
        if isinstance(action, AnswerPrompt):
            raise WrongState("What this machine asks is answered at the machine itself.")
        commands = check(action, self.machine.model, self.situation())
        commands += offset_steps(action, self._orders.pending, self.machine)
        self.heaters.touched_at = now.shop
        return self._lines(commands, action, by)

    def _lines(self, commands: Sequence[bytes], action: Action | None = None, by: str = "") -> InjectedCommands:
        """Have the machine carry out commands."""
        return self._orders.give(action, by, do="lines", lines=[c.decode("ascii") for c in commands])

    # What the machine says -----------------------------------------------------------------------------------

    def _presence(self, body: dict[str, Any]) -> None:
        here, was = bool(body["here"]), self._orders.here
        self._orders.here = here
        if not here:
            self.connection.lost()
        elif not was:
            self.connection.found()
            self._orders.send_again()
            if self.phase is StoredFilePhase.SENDING:
                self._transfer.offer()
            elif self._resting and not self._prepared and self.machine.state is not MachineState.DOWN:
                self._mended()

    def _answer(self, body: dict[str, Any]) -> None:
        order = self._orders.answered(str(body["id"]))
        if order is None:
            return
        problem, is_run, injected = str(body.get("problem", "")), order.body["do"] == "run", order.pending.injected
        injected.said += [str(line) for line in body.get("said") or []][:400]
        if problem:
            injected.failed = problem
            if is_run:
                self.machine.ending = (Outcome.FAILED, f"the machine would not run the file: {problem}")
                self._over()
            return
        take_effect(self.machine, order.pending, building=not self._resting and self.machine.spec is not None)
        injected.done = not injected.failed
        if is_run:
            self.phase = StoredFilePhase.RUNNING
            self.machine.changed = True

    def _stored(self, body: dict[str, Any]) -> None:
        """The machine says how much of a file it has."""
        if self.phase is not StoredFilePhase.SENDING or body["sha256"] != self.machine.the_spec().sha256:
            return
        spec = self.machine.the_spec()
        if self._transfer.told(body):
            self.phase = StoredFilePhase.STARTING
            self.machine.changed = True
            self._orders.give(do="run", run=spec.build, sha256=spec.sha256)
        elif self._transfer.damaged >= MOST_DAMAGED:
            self.machine.ending = (Outcome.FAILED, f"the file arrived damaged {self._transfer.damaged} times")
            self._over()

    def _report(self, body: dict[str, Any]) -> None:
        machine, heat, place = self.machine, body.get("heat", {}), body.get("position_mm")
        nozzle, bed, chamber = (_measured_and_asked(heat.get(name, (None, None))) for name in HEATERS)
        others = [name for name in heat if name not in HEATERS and name.strip() and name.isprintable()]
        named = {name[:20]: _measured_and_asked(heat[name]) for name in others[:MOST_SENSORS]}
        further = tuple((name, *value) for name, value in named.items())
        alarm = self.heaters.take(Temperatures(*nozzle, *bed, *chamber, further))
        if alarm:
            self._trouble(alarm)
        machine.position_mm = (float(place[0]), float(place[1]), float(place[2])) if place else None
        machine.head_mm = machine.position_mm
        state, reason = body["state"], str(body.get("reason", ""))
        if state == "halted":
            if machine.state is not MachineState.DOWN:
                self._broken(f"the machine halted: {reason}", Outcome.FAILED)
        elif self.phase is not StoredFilePhase.RUNNING or machine.progress is None:
            return
        elif body.get("run") != machine.the_spec().build:
            machine.ending = (Outcome.FAILED, "the machine restarted itself during the build")
            self._over()
        else:
            machine.advance(int(body["taken"]))
            machine.reported_at = machine.now().shop
            if state in REPORTS:
                REPORTS[state](self, body, reason)

    def _run_ended(self, body: dict[str, Any], reason: str) -> None:
        outcome = Outcome(body["ended"])
        if outcome is not Outcome.STOPPED:
            self.machine.ending = (outcome, reason)
        self._over()

    def _run_paused(self, body: dict[str, Any], reason: str) -> None:
        if self.machine.state is MachineState.PAUSED:
            return
        why = self._pause_reason or reason or "the machine asked for a pause"
        self.machine.pause(why, by_itself=self._by_itself or not self._pause_reason)
        self._pause_reason, self._by_itself = "", False
        self.machine.changed = True

    def _run_goes_on(self, body: dict[str, Any], reason: str) -> None:
        machine = self.machine
        if machine.state is MachineState.PAUSED:
            machine.resume()
            machine.change, machine.changed = "", True
        machine.lay()
        due = None if self._pause_reason else self._pauses.take(0, machine.the_progress().acknowledged)
        if due is not None:
            self.pause(f"asked for before layer {due}", machine.now())

    def _over(self) -> None:
        """The build has ended, as `ending` says."""
        machine, s = self.machine, self.machine.settings
        self._orders.drop("the build ended")
        self.phase = StoredFilePhase.RESTING
        machine.changed = True
        machine.end()
        machine.move(MachineEvent.END, machine.ending[1])
        machine.ending = (Outcome.COMPLETED, "")
        undo = programs.undo(s.speed_pct, s.flow_pct, s.z_offset_mm)
        if undo:
            self._lines(undo)

    def _broken(self, reason: str, outcome: Outcome) -> None:
        self._orders.drop(reason)
        self._prepared = False
        if not self._resting:
            self.machine.ending = (outcome, reason)
            self.machine.end()
        self.phase = StoredFilePhase.RESTING
        self.machine.changed = True
        self.machine.fault(reason)

    def _trouble(self, reason: str) -> None:
        """Something is wrong: pause the build if possible, and tell people in any case."""
        if self.phase is not StoredFilePhase.RUNNING or self.machine.state is MachineState.PAUSED:
            self.machine.tell_once(reason)
        elif not self._pause_reason:
            self.pause(reason, self.machine.now(), by_itself=True, heaters_off=True)

    # For the base --------------------------------------------------------------------------------------------

    def _heaters_off_now(self) -> None:
        self._lines(programs.heaters_off(self.machine.model))

    def _tell_machine(self, commands: tuple[bytes, ...]) -> None:
        if not self._orders.here or self.machine.state is MachineState.DOWN:
            raise WrongState("The machine takes no words just now.")
        if self.phase in (StoredFilePhase.SENDING, StoredFilePhase.STARTING):
            raise WrongState("The machine is being given its file; try again in a moment.")
        if commands:
            self._lines(commands)

    def _cleared(self) -> None:
        if self._resting and self._orders.here:
            self._lines([b"M117 Ready"])

    def _mended(self) -> None:
        self._prepared = True
        self._heaters_off_now()


def _measured_and_asked(value: Sequence[float | None]) -> tuple[float | None, float | None]:
    """°C. Raises TypeError and ValueError for what is no temperature."""
    measured, asked = value[:2]
    return None if measured is None else float(measured), None if asked is None else float(asked)


TOPICS: Mapping[str, Callable[[StoredFileController, dict[str, Any]], None]] = {
    "presence": StoredFileController._presence,
    "report": StoredFileController._report,
    "store": StoredFileController._stored,
    "answer": StoredFileController._answer,
}
REPORTS: Mapping[str, Callable[[StoredFileController, dict[str, Any], str], None]] = {
    "ended": StoredFileController._run_ended,
    "paused": StoredFileController._run_paused,
    "running": StoredFileController._run_goes_on,
}
