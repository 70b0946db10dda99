"""Controls one machine that is fed line by line, with no I/O: bytes in, what people ask, and time; bytes out, and what
happened.

`BuildFeeder` decides what the link carries, `Troubles` what becomes of a build when something goes wrong, `Recovery`
how a build outlives its tender. Here their events come in, and what people may ask is checked.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from typing import Any

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.actions import (
    Action,
    Activity,
    Adjust,
    AnswerPrompt,
    Filament,
    Home,
    MeasureBed,
    MotorsOff,
    Move,
    RunSequence,
    SendLine,
    check,
)
from chronarch.core.control.build_feeder import BuildFeeder
from chronarch.core.control.checkpoint import BuildCheckpoint, PauseRequest
from chronarch.core.control.controlled_machine import BuildSpec, Instant
from chronarch.core.control.controller import MachineController
from chronarch.core.control.events import Adjusted, Noticed
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import (
    Acknowledged,
    CommandSequence,
    DamagedWire,
    Drained,
    Finished,
    LineProtocol,
    LostCount,
    NextLineWanted,
    OutOfStep,
    Overdue,
    Program,
    ProtocolEvent,
    ProtocolState,
    Silent,
    SlowWire,
)
from chronarch.core.control.pending_actions import adjustments, offset_steps
from chronarch.core.control.phases import OVER, STANDING, FeedingPhase
from chronarch.core.control.recovery import Recovery
from chronarch.core.control.responses import (
    AskedCancel,
    AskedPause,
    AskedResume,
    Continued,
    FaultReported,
    FilamentOut,
    Halted,
    OtherText,
    Position,
    Prompt,
    Temperatures,
    WaitsForPerson,
)
from chronarch.core.control.standing_by import HeatQueries, let_nozzle_rest
from chronarch.core.control.troubles import Troubles
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MachineState, Outcome, TooLate, WrongState

__all__ = ["FeedingPhase", "StreamingController"]

MOST_SAID = 400
"""So many lines of what the machine says of injected commands are kept."""


class StreamingController(MachineController):
    """Controls a machine that is fed line by line."""

    def __init__(
        self,
        model: MachineModel,
        state: MachineState = MachineState.IDLE,
        *,
        report_every_s: int = 1,
        answer_timeout_s: float = 3.0,
        fences_from: int = 0,
    ) -> None:
        super().__init__(model, state)
        self.link = LineProtocol(answer_timeout_s, window_bytes=model.window_bytes, fences_from=fences_from)
        self.feeder = BuildFeeder(self.machine, self.link, report_every_s)
        self.prompts = self.feeder.prompts
        self._troubles = Troubles(self.feeder)
        self._recovery = Recovery(self.feeder)
        self._queries = HeatQueries(self.feeder)

    # How it stands -------------------------------------------------------------------------------------------

    @property
    def phase(self) -> FeedingPhase:
        return self.feeder.phase

    @property
    def ready(self) -> bool:
        return self.feeder.ready

    @property
    def activity(self) -> Activity:
        if self.phase is FeedingPhase.RESTING:
            return Activity.FREE
        return Activity.PAUSED if self.phase is FeedingPhase.PARKED else Activity.BUILDING

    @property
    def suspect(self) -> bool:
        return self.link.suspect

    @property
    def _busy(self) -> bool:
        """Whether a machine that stands is still at what people asked of it, or at what its pause brought."""
        return self.feeder.queue.busy or (self.phase is FeedingPhase.PARKED and self.link.under_way)

    @property
    def can_resume(self) -> bool:
        return self.phase not in (FeedingPhase.PAUSING, FeedingPhase.PARKING) and not self._busy

    @property
    def stopping(self) -> bool:
        return self.phase in (FeedingPhase.ENDING, FeedingPhase.RESTING)

    @property
    def asked(self) -> list[Adjust]:
        return adjustments(self.feeder.queue.pending)

    @property
    def pauses_before(self) -> set[int]:
        return self.feeder.pauses.layers

    @property
    def fan_pct(self) -> float | None:
        if not self.feeder.under_way:
            return None
        return round(self.feeder.place.modal.fans.get(0, 0.0) / 2.55, 1)

    @property
    def silent(self) -> bool:
        """Whether nothing has happened that must be told or kept, so that the next line may go at once."""
        return not self.machine.events and not self.machine.changed

    def kept(self) -> BuildCheckpoint | None:
        return self._recovery.checkpoint()

    # The wire ------------------------------------------------------------------------------------------------

    def outgoing(self) -> bytes:
        """Bytes to write to the machine now."""
        return self.link.outgoing()

    def connected(self, now: Instant) -> None:
        self._pass(now)
        self.connection.lost()
        self.link.connected()
        if self.link.program is not None:
            return
        if self.feeder.prepared or self.machine.state is MachineState.DOWN:
            self.link.ask()
        else:
            self.feeder.prepare()

    def disconnected(self, now: Instant) -> None:
        self._pass(now)
        self.link.disconnected()
        self.connection.lost()

    def receive(self, data: bytes, now: Instant) -> None:
        """Take bytes the machine sent."""
        if now is not self.machine.moment:
            self._pass(now)
        if self.connection.is_lost:
            self.connection.found()
        events = self.link.receive(data, now.real_s)
        if events:
            self.take(events)

    def tick(self, now: Instant) -> None:
        self._pass(now)
        self.take(self.link.tick(now.real_s))
        self.connection.tick()
        self.heaters.tick(resting=self.phase is FeedingPhase.RESTING)
        self._troubles.tick()
        if self.link.state is ProtocolState.AWAY:
            return
        let_nozzle_rest(self.feeder, self.heaters)
        if self.phase is FeedingPhase.RESTING and self.link.program is None:
            self.heaters.idle()
        self._queries.tick()

    def adopt(self, spec: BuildSpec, kept: BuildCheckpoint, now: Instant) -> None:
        self._pass(now)
        self._recovery.adopt(spec, kept)

    # What people and the service ask -------------------------------------------------------------------------

    def _begin(self, spec: BuildSpec) -> None:
        self.feeder.begin(spec)

    def _require_build(self, verb: str) -> BuildSpec:
        spec = self.machine.spec
        if spec is None or self.phase in OVER:
            raise WrongState(f"Nothing can be {verb}: the machine is {self.machine.state}.")
        return spec

    def pause(self, reason: str, now: Instant, *, by_itself: bool = False, heaters_off: bool = False) -> None:
        """Stop feeding at the next line, park, and wait."""
        self._pass(now)
        self._require_build("paused")
        if self.feeder.pausing is not None or self.phase in STANDING:
            raise WrongState("The build is paused already.")
        self.feeder.pause(PauseRequest(reason, by_itself, heaters_off))

    def pause_before(self, layer: int, now: Instant) -> None:
        self._pass(now)
        self._require_build("paused")
        self.feeder.pauses.add(layer, self.feeder.beyond)
        self.feeder.stop_where_planned()

    def no_pause_before(self, layer: int, now: Instant) -> None:
        self._pass(now)
        self.feeder.pauses.drop(layer)
        self.feeder.stop_where_planned()

    def change_filament(self, reason: str, now: Instant) -> None:
        if self.phase is not FeedingPhase.PARKED:
            self.pause(reason, now)
        self.machine.change, self.machine.changed = "wanted", True

    def resume(self, now: Instant) -> None:
        """Undo a pause. A machine that itself waits for a person is told to go on."""
        self._pass(now)
        if self.prompts.waits and self.phase is not FeedingPhase.PARKED:
            self.link.urgent(b"M108")
            return
        if self.phase is not FeedingPhase.PARKED:
            raise WrongState("Nothing to resume: the build is not paused and parked.")
        if self._busy:
            raise WrongState("The machine is still at what was asked of it; resume when that is done.")
        self.feeder.resume()

    def stop(self, reason: str, now: Instant, outcome: Outcome = Outcome.STOPPED) -> None:
        self._pass(now)
        self._require_build("stopped")
        if self.phase is FeedingPhase.ASKING:
            raise WrongState("It is being found out where the machine stands; try again in a moment.")
        self.feeder.stop(outcome, reason)

    def emergency(self, now: Instant) -> None:
        self._pass(now)
        self.link.urgent(b"M112")
        self.feeder.broken("emergency stop", Outcome.STOPPED)

    def act(self, action: Action, now: Instant, by: str = "") -> InjectedCommands:
        self._pass(now)
        feeder, machine = self.feeder, self.machine
        if self.link.state is ProtocolState.AWAY:
            raise WrongState("There is no link to the machine.")
        if machine.state is MachineState.DOWN:
            raise WrongState("The machine is down; see to it and put it back first.")
        if self.phase in (FeedingPhase.STOPPING, FeedingPhase.ENDING, FeedingPhase.ASKING):
            raise WrongState("The machine is ending its build; try again in a moment.")
        commands = check(action, machine.model, self.situation())
        if isinstance(action, AnswerPrompt):
            self.prompts.answer(action.choice)
            if feeder.under_way:
                machine.tell(Adjusted(machine.the_spec().build, adjustment(action), by))
            return InjectedCommands((), done=True)
        steps = offset_steps(action, feeder.queue.pending, machine)
        parked = self.phase is FeedingPhase.PARKED  # lengths are in millimetres already
        commands += steps if parked or not steps else programs.in_mm(feeder.place.caught_up(), steps)
        if isinstance(action, Home | Move | MeasureBed):
            whole = isinstance(action, Home) and set(action.axes.upper()) in (set(), set("XYZ"))
            feeder.homed |= whole or (isinstance(action, MeasureBed) and action.measure)
            commands = [*commands, b"M114"]
        if isinstance(action, RunSequence) and (feeder.homed or feeder.placed):
            feeder.may_have_moved()
            commands = [*commands, b"M400", b"M114"]
        elif isinstance(action, MotorsOff | RunSequence | SendLine):
            feeder.forget_position()
        if isinstance(action, Filament):
            commands = [*programs.heat_again(feeder.place.caught_up()).commands, *commands]
        self.heaters.touched_at = now.shop
        return feeder.inject(tuple(commands), action, by)

    def skip(
        self, program: Program, plan: TimePlan, sha256: str, from_index: int, text: str, by: str, now: Instant
    ) -> None:
        self._pass(now)
        spec = self.machine.spec
        if spec is None or self.phase in OVER:
            raise WrongState("No build is under way.")
        if self.feeder.beyond > from_index:
            raise TooLate("The layer from which it should be left out has begun; choose a later one.")
        self.feeder.replace_file(replace(spec, plan=plan, program=program, sha256=sha256))
        self.machine.tell(Adjusted(spec.build, text, by))

    def take_model(self, model: MachineModel) -> None:
        super().take_model(model)
        if self.feeder.prepared:  # else it is asked with the greeting, which must be the first that a machine hears
            self.feeder.ask_watchdog()
            self.feeder.inject_next()

    # What the link says --------------------------------------------------------------------------------------

    def take(self, events: list[ProtocolEvent]) -> None:
        """Handle what the link says, each kind by its row of `HANDLERS`."""
        # how far the link has come is told before anything pauses it: it may have passed that place already
        if len(events) > 1:
            events = sorted(events, key=lambda event: isinstance(event, _TROUBLES))
        for event in events:
            handler = HANDLERS.get(type(event))
            if handler is not None:
                handler(self, event)

    def _heat(self, event: Temperatures) -> None:
        alarm = self.heaters.take(event)
        if alarm:
            self._troubles.trouble(alarm, heaters_off=True)

    def _said(self, event: OtherText) -> None:
        current = self.feeder.queue.current
        if current is not None and len(current.injected.said) < MOST_SAID:
            current.injected.said.append(event.text)

    def _position(self, event: Position) -> None:
        self.feeder.take_position((event.x, event.y, event.z))

    def _asked_resume(self) -> None:
        if self.phase is FeedingPhase.PARKED and self.can_resume:
            self.feeder.resume()

    def _asked_cancel(self) -> None:
        if self.machine.spec is not None and self.phase not in OVER | {FeedingPhase.ASKING}:
            self.feeder.stop(Outcome.STOPPED, "cancelled at the machine")

    def _reconnect(self) -> None:
        self.wants_reconnect = True

    def _slow(self, event: SlowWire) -> None:
        text = f"the wire takes {event.round_trip_s:.1f} s to bring an answer, and each line waits for one: look at it"
        self.machine.tell(Noticed(text, self.machine.build, True))

    def _overdue(self, event: Overdue) -> None:
        text = f"the machine has been at {event.command} for {event.waited_s / 60:.0f} min: look at it"
        self.machine.tell(Noticed(text, self.machine.build))

    # For the base --------------------------------------------------------------------------------------------

    def _pass(self, now: Instant) -> None:
        super()._pass(now)
        self.link.now_s = now.real_s

    def _heaters_off_now(self) -> None:
        self.feeder.inject(programs.heaters_off(self.machine.model))

    def _tell_machine(self, commands: tuple[bytes, ...]) -> None:
        if self.link.state is ProtocolState.AWAY or self.machine.state is MachineState.DOWN:
            raise WrongState("The machine takes no words just now.")
        if self.phase in (FeedingPhase.STOPPING, FeedingPhase.ENDING, FeedingPhase.ASKING):
            raise WrongState("The machine is ending its build; try again in a moment.")
        self.feeder.inject(commands)

    def _cleared(self) -> None:
        if self.phase is FeedingPhase.RESTING and self.link.program is None:
            self.feeder.carry(CommandSequence((b"M117 Ready",)))

    def _mended(self) -> None:
        self.feeder.prepared = False
        self.feeder.prepare()


_TROUBLES = (Temperatures, FilamentOut, AskedPause, AskedCancel, FaultReported, DamagedWire, WaitsForPerson)

HANDLERS: Mapping[type, Callable[[StreamingController, Any], object]] = {
    Acknowledged: lambda c, e: c.feeder.acknowledged(e.taken),
    Drained: lambda c, e: c.feeder.held(e.count),
    Finished: lambda c, e: c.feeder.finished(e.count),
    NextLineWanted: lambda c, e: c._recovery.stands(e.wants),
    LostCount: lambda c, e: c.feeder.rebooted(),
    Temperatures: StreamingController._heat,
    Position: StreamingController._position,
    OtherText: StreamingController._said,
    Halted: lambda c, e: c.feeder.broken(f"the machine halted: {e.text}", Outcome.FAILED),
    FaultReported: lambda c, e: c._troubles.fault_reported(e),
    FilamentOut: lambda c, e: c._troubles.trouble("filament ran out"),
    OutOfStep: lambda c, e: c._troubles.out_of_step(e),
    DamagedWire: lambda c, e: c._troubles.damaged_wire(e),
    Silent: lambda c, e: c._reconnect(),
    SlowWire: StreamingController._slow,
    Overdue: StreamingController._overdue,
    AskedPause: lambda c, e: c._troubles.trouble("the machine asked for a pause"),
    AskedResume: lambda c, e: c._asked_resume(),
    AskedCancel: lambda c, e: c._asked_cancel(),
    WaitsForPerson: lambda c, e: c.prompts.wait(f"the machine waits for somebody: {e.text}"),
    Continued: lambda c, e: c.feeder.machine_goes_on(),
    Prompt: lambda c, e: c.prompts.told(e),
}
"""What each event of the link means to the controller. Kinds without a row mean nothing to it."""
