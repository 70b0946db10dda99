"""Minds one machine, with no I/O: what it is doing, what is fed to it, and what to do when something goes wrong.

Bytes from the machine, a person's wishes and the passing of time go in; bytes for the machine and happenings come out.
A `LineLink` carries the lines; the steward decides which program it carries. One build passes through these phases:

    phase      carries            when held and drained   when its program is finished
    resting    -                  -                       -
    feeding    the file           -                       ending (completed)
    pausing    the file           parking                 ending (completed)
    parking    the park program   ending (if stopping)    parked
    parked     -                  -                       -
    reheating  the heat program   parking                 returning
    returning  the return program ending (if stopping)    feeding
    stopping   any of those       ending                  ending
    ending     the end program    -                       resting; the build has ended
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from enum import Enum, auto

from chronarch.core import programs
from chronarch.core.answers import AskedPause, Boot, Fault, FilamentOut, Halted, Heat
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.modal import ModalState
from chronarch.core.gcode.plan import Plan
from chronarch.core.happenings import (
    BuildBegan,
    BuildEnded,
    BuildPaused,
    BuildResumed,
    Happening,
    Noticed,
    StateChanged,
)
from chronarch.core.heat import BED, NOZZLE, HeaterWatch
from chronarch.core.line_link import (
    Acknowledged,
    Drained,
    Finished,
    LineLink,
    LinkEvent,
    LinkState,
    OutOfStep,
    Program,
    Silent,
    Steps,
)
from chronarch.core.progress import Progress
from chronarch.core.states import (
    MACHINE,
    WORKING,
    MachineEvent,
    MachineState,
    Outcome,
    WrongState,
    after,
)

OFFLINE_AFTER_S = 10.0
"""Real seconds without a link before the machine counts as offline: shorter cuts heal unseen."""


class Phase(Enum):
    RESTING = auto()
    FEEDING = auto()
    PAUSING = auto()
    PARKING = auto()
    PARKED = auto()
    REHEATING = auto()
    RETURNING = auto()
    STOPPING = auto()
    ENDING = auto()


@dataclass(frozen=True)
class Moment:
    """One instant on both clocks: real seconds from any start, and shop time."""

    real_s: float
    shop: datetime


@dataclass(frozen=True)
class Errand:
    """A build as the steward gets it: its number, its time plan, and the file's commands."""

    build: int
    plan: Plan
    program: Program
    pace: float = 1.0
    """What such machines are known to take, as a factor on the planned time."""


class Steward:
    """One machine's mind. Raises WrongState when asked for what its state does not allow."""

    def __init__(
        self,
        model: MachineModel,
        state: MachineState = MachineState.IDLE,
        *,
        report_every_s: int = 1,
        answer_timeout_s: float = 3.0,
    ) -> None:
        self.model = model
        self.state = state
        self.reason = ""
        self.phase = Phase.RESTING
        self.errand: Errand | None = None
        self.progress: Progress | None = None
        self.heat = Heat()
        self.wants_reconnect = False
        self.link = LineLink(answer_timeout_s)
        self._report_every_s = report_every_s
        self._watches = (HeaterWatch(NOZZLE), HeaterWatch(BED))
        self._modal = ModalState()
        self._happened: list[tuple[datetime, Happening]] = []
        self._moment: Moment | None = None
        self._lost_at_s: float | None = None
        self.offline = False
        self._ending = (Outcome.COMPLETED, "")
        self._pause_wanted: tuple[str, bool, bool] | None = None
        self._prepared = False
        self._parked = False
        self._on_file = False

    # What comes out ------------------------------------------------------------------------------------------

    def outgoing(self) -> bytes:
        """Bytes to write to the machine now."""
        return self.link.outgoing()

    def happened(self) -> list[tuple[datetime, Happening]]:
        """What has happened since last asked, with its shop time, oldest first."""
        happened, self._happened = self._happened, []
        return happened

    @property
    def shown_state(self) -> MachineState:
        return MachineState.OFFLINE if self.offline else self.state

    @property
    def build(self) -> int | None:
        return self.errand.build if self.errand else None

    @property
    def ready(self) -> bool:
        """Whether nothing is being carried to the machine: a build may begin."""
        return self.phase is Phase.RESTING and self.link.program is None

    # The wire ------------------------------------------------------------------------------------------------

    def connected(self, now: Moment) -> None:
        """A connection stands."""
        self._pass(now)
        self._lost_at_s = None
        if self.offline:
            self.offline = False
            self._tell(StateChanged(self.state, "the link is back", self.build))
        self.link.connected()
        if not self._prepared and self.link.program is None:
            self._prepare()

    def disconnected(self, now: Moment) -> None:
        self._pass(now)
        self.link.disconnected()
        if self._lost_at_s is None:
            self._lost_at_s = now.real_s

    def receive(self, data: bytes, now: Moment) -> None:
        """Take bytes the machine sent."""
        self._pass(now)
        self._take(self.link.receive(data, now.real_s))

    def tick(self, now: Moment) -> None:
        """Let time pass."""
        self._pass(now)
        self._take(self.link.tick(now.real_s))
        if self._lost_at_s is not None and not self.offline and now.real_s - self._lost_at_s >= OFFLINE_AFTER_S:
            self.offline = True
            self._tell(StateChanged(MachineState.OFFLINE, "no link to the machine", self.build))
        bed = self.heat.bed_c
        cool = bed is None or bed <= self.model.release_c
        if self.state is MachineState.COOLING and self.phase is Phase.RESTING and cool and not self.offline:
            self._move(MachineEvent.COOLED)

    # What people and the service ask -----------------------------------------------------------------------

    def begin(self, errand: Errand, now: Moment) -> None:
        """Start a build."""
        self._pass(now)
        after(MACHINE, self.state, MachineEvent.START)
        if not self.ready:
            raise WrongState("The machine is still being made ready; try again in a moment.")
        self.errand, self.progress = errand, Progress(errand.plan, errand.pace)
        self._modal = ModalState()
        self._pause_wanted = None
        self._parked = False
        self._move(MachineEvent.START)
        self._tell(BuildBegan(errand.build))
        self._feed_file(0)

    def pause(self, reason: str, now: Moment, *, by_itself: bool = False, heaters_off: bool = False) -> None:
        """Stop feeding at the next line, park, and wait."""
        self._pass(now)
        if self.errand is None or self.phase in (Phase.RESTING, Phase.STOPPING, Phase.ENDING):
            raise WrongState(f"Nothing can be paused: the machine is {self.state}.")
        if self._pause_wanted is not None or self.phase in (Phase.PARKING, Phase.PARKED):
            raise WrongState("The build is paused already.")
        self._pause_wanted = (reason, by_itself, heaters_off)
        if self.phase in (Phase.FEEDING, Phase.REHEATING):
            self._start_pausing()

    def resume(self, now: Moment) -> None:
        """Undo a pause: heat, return, go on with the very next line."""
        self._pass(now)
        if self.phase is not Phase.PARKED:
            raise WrongState("Nothing to resume: the build is not paused and parked.")
        self._move(MachineEvent.RESUME)
        self._tell(BuildResumed(self._errand().build))
        self.phase = Phase.REHEATING
        self._carry(programs.heat_again(self._modal))

    def stop(self, reason: str, now: Moment, outcome: Outcome = Outcome.STOPPED) -> None:
        """End the build: heaters off, park, bed presented."""
        self._pass(now)
        if self.errand is None or self.phase in (Phase.RESTING, Phase.STOPPING, Phase.ENDING):
            raise WrongState(f"Nothing can be stopped: the machine is {self.state}.")
        self._ending = (outcome, reason)
        self.phase = Phase.STOPPING
        self.link.urgent(b"M108")
        self._take(self.link.hold())

    def emergency(self, now: Moment) -> None:
        """Halt the machine before everything else."""
        self._pass(now)
        self.link.urgent(b"M112")
        self._broken("emergency stop", Outcome.STOPPED)

    def clear(self, now: Moment) -> None:
        """A person has cleared the bed."""
        self._pass(now)
        self.errand = self.progress = None
        if self.state is MachineState.DOWN:
            return
        self._move(MachineEvent.CLEAR)
        if self.phase is Phase.RESTING and self.link.program is None:
            self._carry(Steps((b"M117 Ready",)))

    def take_out(self, reason: str, now: Moment) -> None:
        """A person takes the machine out of work."""
        self._pass(now)
        self._move(MachineEvent.TAKE_OUT, reason)

    def put_back(self, now: Moment) -> None:
        """A person gives the machine back to work, after service or a fault."""
        self._pass(now)
        if self.state is MachineState.DOWN:
            self._prepared = False
            self._prepare()
            laden = self.errand is not None
            self._move(MachineEvent.MENDED_WITH_PART if laden else MachineEvent.MENDED)
        else:
            self._move(MachineEvent.PUT_BACK)

    def lost(self, build: int, plan: Plan, now: Moment) -> None:
        """A build was under way that nobody minds any more (the tender was started anew): end it."""
        self._pass(now)
        self.errand, self.progress = Errand(build, plan, Steps(())), Progress(plan)
        self._ending = (Outcome.FAILED, "the tender was restarted during the build")
        if self.state not in WORKING:
            self.state = MachineState.WARMING
        self.phase = Phase.STOPPING
        self._take(self.link.hold())

    def uncleared(self, build: int, plan: Plan) -> None:
        """A build that has ended still lies on the bed (known from the service after a restart)."""
        self.errand = Errand(build, plan, Steps(()))

    # Inside --------------------------------------------------------------------------------------------------

    def _errand(self) -> Errand:
        assert self.errand is not None
        return self.errand

    def _carry(self, program: Program) -> None:
        """Have the link carry a program of the tender's own."""
        self._on_file = False
        self.link.load(program)

    def _pass(self, now: Moment) -> None:
        """Account for the time since the last call."""
        if self._moment is not None and self.progress is not None:
            passed = (now.shop - self._moment.shop).total_seconds()
            if self.state is MachineState.BUILDING:
                self.progress.laying_s += passed
            elif self.state is MachineState.WARMING:
                self.progress.warming_s += passed
        self._moment = now

    def _tell(self, happening: Happening) -> None:
        assert self._moment is not None
        self._happened.append((self._moment.shop, happening))

    def _move(self, event: MachineEvent, reason: str = "") -> None:
        self.state = after(MACHINE, self.state, event)
        self.reason = reason
        self._tell(StateChanged(self.state, reason, self.build))

    def _prepare(self) -> None:
        """After a fresh contact: heaters off, since nobody is known to want them, and reports by itself."""
        if self.link.state is LinkState.RESTING:
            self._prepared = True
            self._carry(programs.quiet(self._report_every_s))

    def _take(self, events: list[LinkEvent]) -> None:
        for event in events:
            match event:
                case Heat():
                    self._heat_report(event)
                case Acknowledged(count):
                    self._acknowledged(count)
                case Drained(count):
                    self._stand_at(count)
                    self._drained()
                case Finished():
                    self._finished()
                case FilamentOut():
                    self._trouble("filament ran out")
                case AskedPause():
                    self._trouble("the machine asked for a pause")
                case Fault(text):
                    self._trouble(f"the machine reports a fault: {text}")
                case OutOfStep(text):
                    self._out_of_step(text)
                case Halted(text):
                    self._broken(f"the machine halted: {text}", Outcome.FAILED)
                case Boot():
                    self._rebooted()
                case Silent():
                    self.wants_reconnect = True
                case _:
                    pass

    def _heat_report(self, heat: Heat) -> None:
        self.heat = heat
        assert self._moment is not None
        readings = ((heat.nozzle_c, heat.nozzle_asked_c), (heat.bed_c, heat.bed_asked_c))
        for watch, (measured, asked) in zip(self._watches, readings, strict=True):
            if measured is None:
                continue
            alarm = watch.take(self._moment.shop, measured, asked or 0.0)
            if alarm:
                self._trouble(alarm, heaters_off=True)

    def _trouble(self, reason: str, *, heaters_off: bool = False) -> None:
        """Something is wrong: pause what can be paused, and say so in any case; the same trouble is told once."""
        assert self._moment is not None
        under_way = self.errand is not None and self.phase not in (
            Phase.RESTING,
            Phase.STOPPING,
            Phase.ENDING,
        )
        if under_way and self._pause_wanted is None and self.phase not in (Phase.PARKING, Phase.PARKED):
            if heaters_off:
                self.link.urgent(b"M108")
            self.pause(reason, self._moment, by_itself=True, heaters_off=heaters_off)
        elif reason.split(":")[0] != self.reason.split(":")[0]:
            self.reason = reason
            self._tell(Noticed(reason, self.build))
            if heaters_off and self.phase is Phase.PARKED and self.link.program is None:
                self._carry(Steps(programs.HEATERS_OFF[:2]))

    def _out_of_step(self, text: str) -> None:
        if self.phase in (Phase.FEEDING, Phase.PAUSING) and self.errand is not None:
            if self._pause_wanted is None:
                self._pause_wanted = (text, True, False)
            self._stand_at(self.link.acknowledged)
            self._drained()
        elif self.phase in (Phase.STOPPING, Phase.ENDING, Phase.PARKING, Phase.REHEATING, Phase.RETURNING):
            self._broken(text, Outcome.FAILED)
        else:
            self._tell(Noticed(text, self.build))

    def _acknowledged(self, count: int) -> None:
        if self.progress is None or not self._on_file:
            return
        program = self._errand().program
        for index in range(self.progress.acknowledged, count):
            self._modal.apply(program.command(index))
        self.progress.acknowledged = max(self.progress.acknowledged, count)
        if self.state is MachineState.WARMING and self._laying_begun():
            self._lay()

    def _stand_at(self, count: int) -> None:
        """The machine has `count` of the file's commands for certain: an `ok` too many may have told of more."""
        if self.progress is None or not self._on_file:
            return
        if count >= self.progress.acknowledged:
            self._acknowledged(count)
            return
        self.progress.acknowledged = count
        self._modal = ModalState()
        for index in range(count):
            self._modal.apply(self._errand().program.command(index))

    def _laying_begun(self) -> bool:
        assert self.progress is not None
        layers = self.progress.plan.layers
        return not layers or self.progress.acknowledged > layers[0]

    def _lay(self) -> None:
        assert self.progress is not None
        self._move(MachineEvent.LAID)
        self.progress.begin_laying()

    def _feed_file(self, at: int) -> None:
        self.phase = Phase.FEEDING
        self._on_file = True
        self.link.load(self._errand().program, at, own=False)
        if self._pause_wanted is not None:
            self._start_pausing()

    def _start_pausing(self) -> None:
        self.phase = Phase.PAUSING
        self._take(self.link.hold())

    def _drained(self) -> None:
        if self.phase in (Phase.FEEDING, Phase.PAUSING) and self._pause_wanted is not None:
            reason, by_itself, heaters_off = self._pause_wanted
            self._move(MachineEvent.PAUSE, reason)
            self._tell(BuildPaused(self._errand().build, reason, by_itself))
            self.phase = Phase.PARKING
            lift = self._laying_begun() and not self._parked
            self._carry(programs.park(self.model, lift=lift, heaters_off=heaters_off))
        elif self.phase is Phase.STOPPING:
            self._start_ending()

    def _finished(self) -> None:
        if self.phase is Phase.PAUSING and self._parked:
            self._drained()
        elif self.phase in (Phase.FEEDING, Phase.PAUSING):
            self._pause_wanted = None
            self._ending = (Outcome.COMPLETED, "")
            self._start_ending()
        elif self.phase is Phase.STOPPING:
            self._start_ending()
        elif self.phase is Phase.PARKING:
            self.phase = Phase.PARKED
            self._parked = True
            self._pause_wanted = None
        elif self.phase is Phase.REHEATING:
            self.phase = Phase.RETURNING
            self._carry(programs.go_back(self._modal, lifted=self._laying_begun()))
        elif self.phase is Phase.RETURNING:
            assert self.progress is not None
            self._parked = False
            if self._laying_begun():
                self._lay()
            self._feed_file(self.progress.acknowledged)
        elif self.phase is Phase.ENDING:
            self.phase = Phase.RESTING
            self._ended()
            self._move(MachineEvent.END, self._ending[1])

    def _start_ending(self) -> None:
        self.phase = Phase.ENDING
        lift = self._ending[0] is not Outcome.COMPLETED
        self.link.drop()
        self._carry(programs.end(self.model, lift=lift, report_every_s=self._report_every_s))
        self._prepared = True

    def _ended(self) -> None:
        assert self.progress is not None
        outcome, reason = self._ending
        done = self.progress.plan.at(self.progress.acknowledged)
        self._tell(
            BuildEnded(
                self._errand().build,
                outcome,
                reason,
                self.progress.acknowledged,
                done.planned_s,
                done.filament_mm,
            )
        )

    def _broken(self, reason: str, outcome: Outcome) -> None:
        """The machine has stopped itself: its build is over and hands must see to it."""
        self.link.drop()
        self._prepared = False
        if self.errand is not None and self.phase is not Phase.RESTING:
            self._ending = (outcome, reason)
            self._ended()
        self.phase = Phase.RESTING
        self._pause_wanted = None
        if self.state is not MachineState.DOWN:
            self._move(MachineEvent.FAULT, reason)

    def _rebooted(self) -> None:
        """The machine started anew: its heaters are off and its position is gone."""
        self.link.drop()
        self._prepared = False
        if self.errand is not None and self.phase is not Phase.RESTING:
            self._ending = (Outcome.FAILED, "the machine restarted itself during the build")
            self.phase = Phase.ENDING
            self._carry(programs.quiet(self._report_every_s))
            self._prepared = True
        elif self.state is not MachineState.DOWN:
            self._prepare()
