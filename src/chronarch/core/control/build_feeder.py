"""Leads a build on a machine that is fed line by line, with no I/O: what is fed, and what to do when it goes wrong.

Bytes from the machine, a person's wishes and the passing of time go in; bytes for the machine and happenings come out.
A `LineProtocol` carries the lines; the controller decides which program it carries. One build passes through these
phases:

    phase      carries            when held and drained     when its program is finished
    resting    - or an aside      -                         resting; the next aside
    feeding    the file           parking, at a pause       ending (completed)
    turning    the file           aside                     ending (completed)
    aside      an aside           ending (if stopping)      the next aside, else feeding
    pausing    the file           parking                   ending (completed)
    parking    the park program   ending (if stopping)      parked
    parked     - or an aside      -                         parked; the next aside
    reheating  the heat program   parking                   returning
    returning  the return program ending (if stopping)      feeding
    stopping   any of those       ending                    ending
    ending     the end program    -                         resting; the build has ended
    asking     -                  -                         (a new tender) as the machine and what was kept say
"""

from __future__ import annotations

from abc import abstractmethod

from chronarch.core.control import command_sequences as programs
from chronarch.core.control.action_wording import adjustment
from chronarch.core.control.actions import (
    Action,
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
    offset_step,
)
from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.controller import BuildSpec, Instant, PauseRequest
from chronarch.core.control.events import Adjusted, BuildBegan, BuildPaused, BuildResumed, Noticed
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import (
    Acknowledged,
    CommandSequence,
    DamagedWire,
    Drained,
    Finished,
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
from chronarch.core.control.own_programs import FeedingPhase, OwnProgramFeeder
from chronarch.core.control.progress import Progress
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
from chronarch.core.gcode.modal import ModalState
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.states import MACHINE, MachineEvent, MachineState, Outcome, TooLate, WrongState, after

MOST_CHOICES = 10
ON_FILE = frozenset({FeedingPhase.FEEDING, FeedingPhase.TURNING, FeedingPhase.PAUSING})
_OVER = frozenset({FeedingPhase.RESTING, FeedingPhase.STOPPING, FeedingPhase.ENDING})

_TROUBLES = (Temperatures, FilamentOut, AskedPause, AskedCancel, FaultReported, DamagedWire, WaitsForPerson)


class BuildFeeder(OwnProgramFeeder):
    """Leads a build from its first line to its end, through pauses, stops and trouble."""

    # What comes out ------------------------------------------------------------------------------------------

    @property
    def ready(self) -> bool:
        at_rest = (
            self.phase is FeedingPhase.RESTING
            and self.link.program is None
            and self.link.state is ProtocolState.RESTING
        )
        return at_rest and self._prepared and not self._injections

    @property
    def can_resume(self) -> bool:
        busy = self._injected is not None or bool(self._injections) or self.link.state is ProtocolState.ASKING
        return self.phase not in (FeedingPhase.PAUSING, FeedingPhase.PARKING) and not busy

    @property
    def stopping(self) -> bool:
        return self.phase in (FeedingPhase.ENDING, FeedingPhase.RESTING)

    # The wire ------------------------------------------------------------------------------------------------

    def connected(self, now: Instant) -> None:
        """The connection is open. Whether a machine is behind it shows once that says something."""
        self._pass(now)
        self._lost(now)
        self.link.connected()
        if self.link.program is not None:
            return
        if self._prepared or self.state is MachineState.DOWN:
            self.link.ask()
        else:
            self._prepare()

    def disconnected(self, now: Instant) -> None:
        self._pass(now)
        self.link.disconnected()
        self._lost(now)

    def receive(self, data: bytes, now: Instant) -> None:
        """Take bytes the machine sent."""
        if now is not self._moment:
            self._pass(now)
        if self._lost_at_s is not None:
            self._found()
        events = self.link.receive(data, now.real_s)
        if events:
            self._take(events)

    @property
    def silent(self) -> bool:
        """Whether nothing has happened that must be told or kept, so that the next line may go at once."""
        return not self._events and not self._changed

    def tick(self, now: Instant) -> None:
        """Let time pass."""
        self._pass(now)
        self._take(self.link.tick(now.real_s))
        self._tick_common(now, self.phase is FeedingPhase.RESTING)
        if self._last_words and self.link.suspect:
            self._broken(f"the machine has not answered since it reported: {self._last_words}", Outcome.FAILED)
        if self.link.state is ProtocolState.AWAY:
            return
        if (
            self.phase is FeedingPhase.PARKED
            and not self._unsure
            and self.link.state is ProtocolState.RESTING
            and self.link.program is None
        ):
            self._let_nozzle_rest(now)
        if self.phase is FeedingPhase.RESTING and self.link.program is None:
            self._idle_safety(now)
        self._ask_heat(now)

    # What people and the service ask -----------------------------------------------------------------------

    def begin(self, spec: BuildSpec, now: Instant) -> None:
        self._pass(now)
        after(MACHINE, self.state, MachineEvent.START)
        if not self.ready:
            raise WrongState("The machine is still being made ready; try again in a moment.")
        self.spec, self.progress = spec, Progress(spec.plan, spec.pace)
        self._modal, self._modal_at = ModalState(), 0
        self._forget_position()
        self._fresh()
        self._move(MachineEvent.START)
        self._tell(BuildBegan(spec.build))
        self._feed_file(0)

    def pause(self, reason: str, now: Instant, *, by_itself: bool = False, heaters_off: bool = False) -> None:
        """Stop feeding at the next line, park, and wait."""
        self._pass(now)
        if self.spec is None or self.phase in _OVER:
            raise WrongState(f"Nothing can be paused: the machine is {self.state}.")
        if self._pausing is not None or self.phase in (FeedingPhase.PARKING, FeedingPhase.PARKED, FeedingPhase.ASKING):
            raise WrongState("The build is paused already.")
        self._pausing = PauseRequest(reason, by_itself, heaters_off)
        if self.phase in (FeedingPhase.FEEDING, FeedingPhase.REHEATING):
            self._start_pausing()

    def pause_before(self, layer: int, now: Instant) -> None:
        self._pass(now)
        if self.spec is None or self.phase in _OVER:
            raise WrongState(f"Nothing can be paused: the machine is {self.state}.")
        layer = layer or self.spec.plan.layer_at(self._beyond()) + 1
        if self._layer_index(layer) < self._beyond():
            raise WrongState(f"Layer {layer} has begun already; choose a later one.")
        self.pauses_before.add(layer)
        self._changed = True
        if self.phase is FeedingPhase.FEEDING:
            self.link.until(self._next_stop(self._here()))

    def no_pause_before(self, layer: int, now: Instant) -> None:
        """Take back a pause before a layer."""
        self._pass(now)
        if layer not in self.pauses_before:
            raise WrongState(f"No pause before layer {layer} is planned.")
        self.pauses_before.discard(layer)
        self._changed = True
        if self.phase is FeedingPhase.FEEDING:
            self.link.until(self._next_stop(self._here()))

    def change_filament(self, reason: str, now: Instant) -> None:
        """Pause for a filament change, or turn the present pause into one."""
        if self.phase is not FeedingPhase.PARKED:
            self.pause(reason, now)
        self.change = "wanted"
        self._changed = True

    def resume(self, now: Instant) -> None:
        """Undo a pause: heat, go back, continue with the very next line. If the machine itself waits for a person, it
        is told to go on. If its place in the file is not known, it is asked first."""
        self._pass(now)
        if self.waits and self.phase is not FeedingPhase.PARKED:
            self.link.urgent(b"M108")
            return
        if self.phase is not FeedingPhase.PARKED:
            raise WrongState("Nothing to resume: the build is not paused and parked.")
        if self._injected is not None or self._injections or self.link.state is ProtocolState.ASKING:
            raise WrongState("The machine is still at what hands asked of it; resume when that is done.")
        self._move(MachineEvent.RESUME)
        self._tell(BuildResumed(self._spec().build))
        self.change = ""
        self.nozzle_rests = False
        self._parked_at = None
        if self._unsure:
            self.phase = FeedingPhase.ASKING
            self.link.ask()
            return
        self._reheat()

    def _reheat(self) -> None:
        self.phase = FeedingPhase.REHEATING
        self._carry(programs.heat_again(self._caught_up()))

    def answer(self, choice: int, now: Instant) -> None:
        """Answer what the machine asks of a person, by the number of a choice, from 0."""
        self._pass(now)
        if not 0 <= choice < len(self.choices):
            raise WrongState(f"The machine offers {len(self.choices)} choices; there is no choice {choice}.")
        self.link.urgent(b"M876 S%d" % choice)
        self._answered_prompt()

    def stop(self, reason: str, now: Instant, outcome: Outcome = Outcome.STOPPED) -> None:
        """End the build: heaters off, park, bed presented."""
        self._pass(now)
        if self.spec is None or self.phase in _OVER:
            raise WrongState(f"Nothing can be stopped: the machine is {self.state}.")
        if self.phase is FeedingPhase.ASKING:
            raise WrongState("It is being found out where the machine stands; try again in a moment.")
        self._ending = (outcome, reason)
        self._drop_injections("the build was stopped")
        self.phase = FeedingPhase.STOPPING
        self._changed = True
        self.link.urgent(b"M108")
        self._take(self.link.hold())

    def emergency(self, now: Instant) -> None:
        """Halt the machine before everything else."""
        self._pass(now)
        self.link.urgent(b"M112")
        self._broken("emergency stop", Outcome.STOPPED)

    def act(self, action: Action, now: Instant, by: str = "") -> InjectedCommands:
        self._pass(now)
        if self.link.state is ProtocolState.AWAY:
            raise WrongState("There is no link to the machine.")
        if self.state is MachineState.DOWN:
            raise WrongState("The machine is down; see to it and put it back first.")
        if self.phase in (FeedingPhase.STOPPING, FeedingPhase.ENDING, FeedingPhase.ASKING):
            raise WrongState("The machine is ending its build; try again in a moment.")
        commands = check(action, self.model, self.situation())
        if isinstance(action, AnswerPrompt):
            self.answer(action.choice, now)
            if self.spec is not None and self.phase is not FeedingPhase.RESTING:
                self._tell(Adjusted(self.spec.build, adjustment(action), by))
            return InjectedCommands((), done=True)
        if isinstance(action, Adjust) and action.z_offset_mm is not None:
            step = action.z_offset_mm - self._asked_offset()
            steps = [offset_step(step)] if abs(step) > 1e-6 else []
            parked = self.phase is FeedingPhase.PARKED  # these lengths are in millimetres already
            commands += steps if parked or not steps else programs.in_mm(self._caught_up(), steps)
        if isinstance(action, Home | Move | MeasureBed):
            whole = isinstance(action, Home) and set(action.axes.upper()) in (set(), set("XYZ"))
            self._homed |= whole or (isinstance(action, MeasureBed) and action.measure)
            commands = [*commands, b"M114"]
        if isinstance(action, MotorsOff | RunSequence | SendLine):
            self._forget_position()
        if isinstance(action, Filament):
            commands = [*programs.heat_again(self._caught_up()).commands, *commands]
        self._touched_at = now.shop
        return self._inject(tuple(commands), action, by)

    def skip(
        self, program: Program, plan: TimePlan, sha256: str, from_index: int, text: str, by: str, now: Instant
    ) -> None:
        """Continue with an edited file that equals the present one up to `from_index`. Raises WrongState when the
        feeding has gone further than that."""
        self._pass(now)
        if self.spec is None or self.phase in _OVER:
            raise WrongState("No build is under way.")
        if self._beyond() > from_index:
            raise TooLate("The layer from which it should be left out has begun; choose a later one.")
        self._caught_up()
        spec = self.spec
        self.spec = BuildSpec(spec.build, plan, program, spec.pace, sha256)
        self._progress().plan = plan
        self._changed = True
        if self._on_file and self.link.program is not None:
            self.link.swap(program)
            self.link.until(self._next_stop(self._here()))
        self._tell(Adjusted(spec.build, text, by))

    # Inside --------------------------------------------------------------------------------------------------

    def _fresh(self) -> None:
        """Forget everything of an earlier build."""
        self._pausing = None
        self._parked = self._retracted = self.nozzle_rests = self._unsure = False
        self.waits = ""
        self._passed_wait = -1
        self.pauses_before = set()
        self.settings = BuildAdjustments()
        self.change = ""

    def _beyond(self) -> int:
        """How many commands of the file are taken or on their way."""
        return self.link.furthest if self._on_file and self.link.program is not None else self._here()

    def _next_stop(self, at: int) -> int | None:
        """The next command, from `at` on, before which the feeding stops: because a person asked for it, or the file
        did."""
        spec = self._spec()
        waits = [i for i in spec.program.waits if i >= at and i > self._passed_wait]
        layers = [self._layer_index(n) for n in self.pauses_before if n <= len(spec.plan.layers)]
        return min([*waits, *(i for i in layers if i >= at)], default=None)

    def _take(self, events: list[ProtocolEvent]) -> None:
        # tell how far the link has come before anything pauses it: it may have passed that place already
        if len(events) > 1:
            events = sorted(events, key=lambda event: isinstance(event, _TROUBLES))
        for event in events:
            match event:
                case Acknowledged(count):
                    self._acknowledged(count)
                case Temperatures():
                    alarm = self._heat_alarm(event)
                    if alarm:
                        self._trouble(alarm, heaters_off=True)
                case OtherText(text):
                    if self._injected is not None and len(self._injected.said) < 400:
                        self._injected.said.append(text)
                case Drained(count):
                    self._stand_at(count)
                    self._drained(count)
                case Finished(proof):
                    self._finished(proof)
                case NextLineWanted(wants):
                    self._stands(wants)
                case FilamentOut():
                    self._trouble("filament ran out")
                case AskedPause():
                    self._trouble("the machine asked for a pause")
                case AskedResume() | AskedCancel() | WaitsForPerson() | Continued() | Prompt():
                    self._at_the_machine(event)
                case FaultReported(text):
                    self._last_words = text
                    self._trouble(f"the machine reports a fault: {text}")
                    if self.link.state is ProtocolState.RESTING and self.link.program is None:
                        self.link.ask()  # check whether the pause is still wanted
                case Position(x, y, z):
                    self.position_mm = (x, y, z) if self._homed else None
                case OutOfStep(text):
                    self._out_of_step(text)
                case Halted(text):
                    self._broken(f"the machine halted: {text}", Outcome.FAILED)
                case Silent():
                    self.wants_reconnect = True
                case SlowWire(seconds):
                    text = f"the wire takes {seconds:.1f} s to bring an answer, and each line waits for one: look at it"
                    self._tell(Noticed(text, self.build, True))
                case Overdue(command, seconds):
                    minutes = f"{seconds / 60:.0f} min"
                    self._tell(Noticed(f"the machine has been at {command} for {minutes}: look at it", self.build))
                case LostCount():
                    self._rebooted()
                case DamagedWire(share):
                    if self._pausing is None and self.phase in (FeedingPhase.FEEDING, FeedingPhase.TURNING):
                        self._trouble(
                            f"the wire damages {share:.0%} of the lines, too many for the checksum to be trusted, and "
                            "one before may have passed: look at cable and connectors, and at the part"
                        )
                case _:
                    pass

    def _trouble(self, reason: str, *, heaters_off: bool = False) -> None:
        """Something is wrong. Pause the build if possible, and tell people in any case; the same trouble is told
        once."""
        assert self._moment is not None
        under_way = self.spec is not None and self.phase not in _OVER and self.phase is not FeedingPhase.ASKING
        if under_way and self._pausing is None and self.phase not in (FeedingPhase.PARKING, FeedingPhase.PARKED):
            if heaters_off:
                self.link.urgent(b"M108")
            self.pause(reason, self._moment, by_itself=True, heaters_off=heaters_off)
        elif reason.split(":")[0] != self.reason.split(":")[0]:
            self.reason = reason
            self._tell(Noticed(reason, self.build))
            if heaters_off and self.phase is FeedingPhase.PARKED and self.link.state is ProtocolState.RESTING:
                self._carry(CommandSequence((*programs.nozzles_off(self.model), b"M140 S0")))

    def _at_the_machine(self, event: AskedResume | AskedCancel | WaitsForPerson | Continued | Prompt) -> None:
        """Somebody at the machine, or its own program, wants something of a person."""
        assert self._moment is not None
        under_way = self.spec is not None and self.phase not in _OVER
        match event:
            case AskedResume() if self.phase is FeedingPhase.PARKED and self.can_resume:
                self.resume(self._moment)
            case AskedCancel() if under_way and self.phase is not FeedingPhase.ASKING:
                self.stop("cancelled at the machine", self._moment)
            case WaitsForPerson(text):
                self._machine_waits(f"the machine waits for somebody: {text}")
            case Continued():
                self._went_on()
            case Prompt("begin", text):
                self.question, self.choices = text, ()
            case Prompt("choice", text):
                self.choices = (*self.choices, text)[:MOST_CHOICES]
            case Prompt("show"):
                self._machine_waits(f"the machine asks: {self.question} ({' / '.join(self.choices) or 'no choice'})")
            case Prompt("end"):
                self._answered_prompt()
            case _:
                pass

    def _machine_waits(self, text: str) -> None:
        if self.waits == text:
            return
        if self.state in (MachineState.WARMING, MachineState.BUILDING) and self.spec is not None:
            self._move(MachineEvent.PAUSE, text)
            self._tell(BuildPaused(self.spec.build, text, True))
        elif not self.waits:
            self._tell(Noticed(text, self.build))
        self.waits, self._changed = text, True
        self._waits_beyond = self.link.furthest

    def _went_on(self) -> None:
        """The machine no longer waits for anybody."""
        if not self.waits:
            return
        self.waits, self._changed = "", True
        if self.phase is not FeedingPhase.PARKED and self.state is MachineState.PAUSED and self._pausing is None:
            self._move(MachineEvent.RESUME)
            self._tell(BuildResumed(self._spec().build))
            if self._laying_begun():
                self._lay()

    def _answered_prompt(self) -> None:
        self.question, self.choices = "", ()

    def _out_of_step(self, text: str) -> None:
        if self._on_file and self.phase in ON_FILE and self.spec is not None and not self.link.untouched:
            self._stand_at(self.link.sure)
            self._stand_unsure(PauseRequest(text, by_itself=True))
        elif (
            self.phase in (FeedingPhase.FEEDING, FeedingPhase.TURNING, FeedingPhase.PAUSING, FeedingPhase.ASIDE)
            and self.spec is not None
        ):
            if self._pausing is None:
                self._pausing = PauseRequest(text, by_itself=True)
            if self._on_file:
                self._stand_at(self.link.acknowledged)
            self._drop_injections(text)
            self.phase = FeedingPhase.PAUSING
            self._drained(self._here())
        elif self.phase in (
            FeedingPhase.STOPPING,
            FeedingPhase.ENDING,
            FeedingPhase.PARKING,
            FeedingPhase.REHEATING,
            FeedingPhase.RETURNING,
        ):
            self._broken(text, Outcome.FAILED)
        else:
            self._drop_injections(text)
            self._tell(Noticed(text, self.build))

    def _stand_unsure(self, why: PauseRequest) -> None:
        """The machine's place in the file is not known: send nothing until a person has looked at it."""
        self._drop_injections(why.reason)
        self._pausing = None
        self._unsure = self._changed = True
        self.phase = FeedingPhase.PARKED
        self._stand_paused(why)

    def _stand_paused(self, why: PauseRequest) -> None:
        """The build is paused now, or paused for another reason than before."""
        if self.state is MachineState.PAUSED:
            self.reason = why.reason
            self._tell(Noticed(why.reason, self.build))
        else:
            self._move(MachineEvent.PAUSE, why.reason)
            self._tell(BuildPaused(self._spec().build, why.reason, why.by_itself))

    def _acknowledged(self, count: int) -> None:
        progress = self.progress
        self._last_words = ""
        if self.waits and count > self._waits_beyond:
            self._went_on()
        if progress is None or not self._on_file:
            return
        if count > progress.acknowledged:
            progress.acknowledged = count
        if self.state is MachineState.WARMING and self._laying_begun():
            self._lay()

    def _stand_at(self, count: int) -> None:
        """The machine has certainly taken `count` commands of the file. An extra `ok` may have suggested more."""
        if self.progress is None or not self._on_file:
            return
        if count >= self.progress.acknowledged:
            self._acknowledged(count)
        else:
            self._place_at(count)

    def _place_at(self, count: int) -> None:
        """The build is after `count` commands of the file, whatever was believed before."""
        self._progress().acknowledged = count
        if self._modal_at > count:
            self._modal, self._modal_at = ModalState(), 0

    def _feed_file(self, at: int) -> None:
        self.phase = FeedingPhase.FEEDING
        self._on_file = True
        self._changed = True
        self.link.load(self._spec().program, at, own=False, until=self._next_stop(at))
        if self._pausing is not None:
            self._start_pausing()

    def _start_pausing(self) -> None:
        self.phase = FeedingPhase.PAUSING
        self._take(self.link.hold())

    def _why_here(self, at: int) -> PauseRequest | None:
        """Why the feeding stops before command `at`, if that was planned."""
        spec = self._spec()
        asked = spec.program.waits.get(at)
        for layer in sorted(self.pauses_before):
            if layer <= len(spec.plan.layers) and self._layer_index(layer) == at:
                self.pauses_before.discard(layer)
                return PauseRequest(f"asked for before layer {layer}")
        if asked is None or at <= self._passed_wait:
            return None
        self._passed_wait = at
        word, _, text = asked.decode("ascii", "replace").partition(" ")
        if word.upper() == "M600":
            self.change = "wanted"
            return PauseRequest("the file asks for a change of filament", by_itself=True)
        return PauseRequest(f"the file asks for a pause{f': {text.strip()}' if text.strip() else ''}", by_itself=True)

    def _drained(self, count: int) -> None:
        if self.phase in (FeedingPhase.FEEDING, FeedingPhase.TURNING) and self._pausing is None and self._on_file:
            self._pausing = self._why_here(count)
        if (
            self.phase in (FeedingPhase.FEEDING, FeedingPhase.TURNING, FeedingPhase.PAUSING)
            and self._pausing is not None
        ):
            self._park(self._pausing)
        elif self.phase is FeedingPhase.TURNING:
            self.phase = FeedingPhase.ASIDE
            if not self._inject_next():
                self._feed_file(count)
        elif self.phase is FeedingPhase.FEEDING:
            self._feed_file(count)
        elif self.phase is FeedingPhase.STOPPING:
            self._start_ending()

    def _park(self, why: PauseRequest) -> None:
        progress = self._progress()
        if progress.acknowledged == self._passed_wait:
            progress.acknowledged += 1  # a pause that the file asked for is not a pause of the machine
        self._stand_paused(why)
        self.waits = ""
        self.phase = FeedingPhase.PARKING
        lift = self._laying_begun() and not self._parked
        self._retracted = self._retracted or lift
        self._parked_at = None
        self._carry(programs.park(self.model, self._caught_up(), lift=lift, heaters_off=why.heaters_off))

    def _finished(self, proof: int) -> None:
        self._last_words = ""
        if self._injected is not None:
            if self._doing[0] is None and self._doing[1]:
                self._acquainted(self._injected, self._doing[1])
            self._injected_over()
        if self.phase is FeedingPhase.PAUSING and self._parked:
            self._drained(self._here())
        elif self.phase in ON_FILE and self._on_file:
            self._pausing = None
            self._drop_injections("the build ended")
            lines = len(self._spec().program)
            short = f"the machine's own count says that it took {proof} of the file's {lines} commands"
            self._ending = (Outcome.COMPLETED, "") if proof == lines else (Outcome.FAILED, short)
            self._start_ending()
        elif self.phase is FeedingPhase.STOPPING:
            self._start_ending()
        elif self.phase is FeedingPhase.ASIDE:
            if self._pausing is not None or not self._inject_next():
                self._feed_file(self._here())
        elif self.phase is FeedingPhase.PARKING:
            self.phase = FeedingPhase.PARKED
            self._changed = True
            self._parked = True
            self._pausing = None
            self._inject_next()
        elif self.phase is FeedingPhase.REHEATING:
            self.phase = FeedingPhase.RETURNING
            lifted = self._laying_begun()
            self._carry(programs.go_back(self._caught_up(), lifted=lifted, retracted=self._retracted))
        elif self.phase is FeedingPhase.RETURNING:
            self._parked = self._retracted = False
            if self._laying_begun():
                self._lay()
            self._feed_file(self._here())
            self._inject_next()
        elif self.phase is FeedingPhase.ENDING:
            self.phase = FeedingPhase.RESTING
            self._changed = True
            self._ended()
            self._move(MachineEvent.END, self._ending[1])
            self._inject_next()
        elif self.phase in (FeedingPhase.RESTING, FeedingPhase.PARKED):
            self._inject_next()

    def _start_ending(self) -> None:
        self.phase = FeedingPhase.ENDING
        lift = self._ending[0] is not Outcome.COMPLETED
        self.link.drop()
        s = self.settings
        undo = programs.undo(s.speed_pct, s.flow_pct, s.z_offset_mm)
        self._carry(
            programs.end(self.model, self._caught_up(), lift=lift, report_every_s=self._report_every_s, undo=undo)
        )
        self._prepared = True

    def _broken(self, reason: str, outcome: Outcome) -> None:
        """The machine has stopped itself: its build is over, and a person must see to it."""
        self.link.drop()
        self._drop_injections(reason)
        self._prepared = self._unsure = False
        self._last_words = self.waits = ""
        self._forget_position()
        if self.spec is not None and self.phase is not FeedingPhase.RESTING:
            self._ending = (outcome, reason)
            self._ended()
        self.phase = FeedingPhase.RESTING
        self._changed = True
        self._pausing = None
        if self.state is not MachineState.DOWN:
            self._move(MachineEvent.FAULT, reason)

    def _rebooted(self) -> None:
        """The machine has restarted: its heaters are off and its position is lost."""
        if self._last_words:
            self._broken(f"the machine restarted after it reported: {self._last_words}", Outcome.FAILED)
            return
        self.link.drop()
        self.waits, self._unsure = "", False
        self._drop_injections("the machine restarted itself")
        self._prepared = False
        self._forget_position()
        if self.spec is not None and self.phase is not FeedingPhase.RESTING:
            self._ending = (Outcome.FAILED, "the machine restarted itself during the build")
            self.phase = FeedingPhase.ENDING
            self._pausing = None
            self._carry(programs.quiet(self.model, self._report_every_s))
            self._get_acquainted()
            self._prepared = True
        elif self.state is not MachineState.DOWN:
            self._prepare()

    def _cleared(self) -> None:
        if self.phase is FeedingPhase.RESTING and self.link.program is None:
            self._carry(CommandSequence((b"M117 Ready",)))

    def _mended(self) -> None:
        self._prepared = False
        self._prepare()

    @abstractmethod
    def _stands(self, wants: int | None) -> None:
        """The machine said which line it wants."""
