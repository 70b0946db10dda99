"""What the control of every machine has in common, whichever way it is fed: its state, its connection, its build.

A controller takes what the machine says, what people ask for and the passing of time, and returns what to send and what
happened. `StreamingController` feeds a machine line by line; `StoredFileController` is for one that runs the file
itself.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass
from datetime import datetime

from chronarch.core.control.actions import Action, Activity, MachineSituation
from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.events import BuildEnded, ControlEvent, Noticed, StateChanged
from chronarch.core.control.firmware_info import FirmwareInfo
from chronarch.core.control.injected_commands import InjectedCommands
from chronarch.core.control.line_protocol import CommandSequence, Program
from chronarch.core.control.progress import Progress
from chronarch.core.control.responses import Temperatures
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MACHINE, MachineEvent, MachineState, Outcome, WrongState, after
from chronarch.core.machines.thermal_protection import BED, NOZZLE, HeaterWatch

OFFLINE_AFTER_S = 10.0
"""Real seconds without a connection before the machine counts as offline. Shorter cuts heal unseen."""


RUNS_ITSELF = "This machine runs the whole file itself; what it runs cannot be changed under way."


@dataclass(frozen=True)
class Instant:
    """One point in time on both clocks: real seconds from any start, and shop time."""

    real_s: float
    shop: datetime


@dataclass(frozen=True)
class BuildSpec:
    """A build as its controller gets it: its number, its time plan, the commands and content of its file."""

    build: int
    plan: TimePlan
    program: Program
    pace: float = 1.0
    """The learned pace of such machines, as a factor on the planned time."""
    sha256: str = ""


@dataclass
class PauseRequest:
    """A pause that is wanted: why, whether nobody asked for it, and what becomes of the heaters."""

    reason: str
    by_itself: bool = False
    heaters_off: bool = False


class MachineController(ABC):
    """Controls one machine. Raises WrongState when asked for what its state does not allow."""

    def __init__(self, model: MachineModel, state: MachineState) -> None:
        self.model = model
        self.state = state
        self.reason = ""
        self.spec: BuildSpec | None = None
        self.progress: Progress | None = None
        self.heat = Temperatures()
        self.settings = BuildAdjustments()
        self.contact = FirmwareInfo()
        self.watchdog: bool | None = None
        """Whether the machine watches its heaters itself; None while that is not known."""
        self.position_mm: tuple[float, float, float] | None = None
        self.offline = False
        self.wants_reconnect = False
        self._watches = (HeaterWatch(NOZZLE), HeaterWatch(BED))
        self._events: list[tuple[datetime, ControlEvent]] = []
        self._moment: Instant | None = None
        self._lost_at_s: float | None = None
        self._touched_at: datetime | None = None
        self._ending = (Outcome.COMPLETED, "")

    # What comes out ------------------------------------------------------------------------------------------

    def take_events(self) -> list[tuple[datetime, ControlEvent]]:
        """What has happened since the last call, each with its shop time, oldest first."""
        events, self._events = self._events, []
        return events

    @property
    def shown_state(self) -> MachineState:
        return MachineState.OFFLINE if self.offline else self.state

    @property
    def build(self) -> int | None:
        return self.spec.build if self.spec else None

    @property
    @abstractmethod
    def ready(self) -> bool:
        """Whether a build may begin."""

    @property
    @abstractmethod
    def activity(self) -> Activity:
        """What the machine is doing, as far as actions by hand are concerned."""

    @property
    def suspect(self) -> bool:
        """Whether the machine leaves lines without an answer."""
        return False

    @property
    @abstractmethod
    def can_resume(self) -> bool:
        """Whether a paused build is parked, so that it can go on."""

    @property
    @abstractmethod
    def stopping(self) -> bool:
        """Whether the end of a build has begun or is over."""

    def situation(self) -> MachineSituation:
        """What `actions.check` must know of the machine now."""
        laden = self.spec is not None or self.state in (MachineState.COOLING, MachineState.UNCLEARED)
        return MachineSituation(self.activity, self.heat.nozzle_c, self.position_mm, laden)

    # What people and the service ask -----------------------------------------------------------------------

    @abstractmethod
    def begin(self, spec: BuildSpec, now: Instant) -> None:
        """Start a build."""

    @abstractmethod
    def pause(self, reason: str, now: Instant, *, by_itself: bool = False, heaters_off: bool = False) -> None: ...

    @abstractmethod
    def resume(self, now: Instant) -> None: ...

    @abstractmethod
    def stop(self, reason: str, now: Instant, outcome: Outcome = Outcome.STOPPED) -> None: ...

    @abstractmethod
    def emergency(self, now: Instant) -> None: ...

    @abstractmethod
    def act(self, action: Action, now: Instant, by: str = "") -> InjectedCommands:
        """Carry out an action by hand. Raises NotPossible (outside limits, not now) and WrongState."""

    def pause_before(self, layer: int, now: Instant) -> None:
        """Pause once everything below `layer` is laid; 0 means once the present layer is laid."""
        raise WrongState(RUNS_ITSELF)

    def no_pause_before(self, layer: int, now: Instant) -> None:
        """Take back a pause before a layer."""
        raise WrongState(RUNS_ITSELF)

    def change_filament(self, reason: str, now: Instant) -> None:
        """Pause for a filament change, or turn the present pause into one."""
        raise WrongState(RUNS_ITSELF)

    def skip(
        self, program: Program, plan: TimePlan, sha256: str, from_index: int, text: str, by: str, now: Instant
    ) -> None:
        """Continue with an edited file that equals the present one up to `from_index`."""
        raise WrongState(RUNS_ITSELF)

    def clear(self, now: Instant) -> None:
        """A person has cleared the bed."""
        self._pass(now)
        self.spec = self.progress = None
        if self.state is MachineState.DOWN:
            return
        self._move(MachineEvent.CLEAR)
        self._cleared()

    def take_model(self, model: MachineModel) -> None:
        """The figures of the model have changed."""
        self.model = model

    def take_out(self, reason: str, now: Instant) -> None:
        """A person takes the machine out of work."""
        self._pass(now)
        self._move(MachineEvent.TAKE_OUT, reason)

    def put_back(self, now: Instant) -> None:
        """A person gives the machine back to work, after service or a fault."""
        self._pass(now)
        if self.state is MachineState.DOWN:
            self._mended()
            laden = self.spec is not None
            self._move(MachineEvent.MENDED_WITH_PART if laden else MachineEvent.MENDED)
        else:
            self._move(MachineEvent.PUT_BACK)

    def uncleared(self, build: int, plan: TimePlan) -> None:
        """A build that has ended still lies on the bed; the service says so after a restart."""
        self.spec = BuildSpec(build, plan, CommandSequence(()))

    # For the kinds of controller ------------------------------------------------------------------------------------

    @abstractmethod
    def _cleared(self) -> None:
        """The bed is clear."""

    @abstractmethod
    def _mended(self) -> None:
        """A person has seen to a fault."""

    def _spec(self) -> BuildSpec:
        assert self.spec is not None
        return self.spec

    def _found(self) -> None:
        """The machine is connected again."""
        self._lost_at_s = None
        if self.offline:
            self.offline = False
            self._tell(StateChanged(self.state, "the link is back", self.build))

    def _lost(self, now: Instant) -> None:
        if self._lost_at_s is None:
            self._lost_at_s = now.real_s

    def _tick_common(self, now: Instant, at_rest: bool) -> None:
        """What the passing of time alone brings: a machine that counts as offline, a bed that is cool enough."""
        if self._lost_at_s is not None and not self.offline and now.real_s - self._lost_at_s >= OFFLINE_AFTER_S:
            self.offline = True
            self._tell(StateChanged(MachineState.OFFLINE, "no link to the machine", self.build))
        if not at_rest:
            self._touched_at = None  # the time of heaters that a build has used counts from its end
        bed = self.heat.bed_c
        cool = bed is None or bed <= self.model.release_c
        if self.state is MachineState.COOLING and at_rest and cool and not self.offline:
            self._move(MachineEvent.COOLED)

    @abstractmethod
    def _heaters_off_now(self) -> None: ...

    def _idle_safety(self, now: Instant) -> None:
        """Turn heaters off that nobody has touched for long while there is nothing to do."""
        hot = (self.heat.nozzle_asked_c or 0) > 0 or (self.heat.bed_asked_c or 0) > 0
        if not hot or not self.model.idle_off_s:
            self._touched_at = now.shop if not hot else self._touched_at
            return
        self._touched_at = self._touched_at or now.shop
        if (now.shop - self._touched_at).total_seconds() >= self.model.idle_off_s:
            self._touched_at = now.shop
            self._heaters_off_now()
            minutes = self.model.idle_off_s / 60
            self._tell(Noticed(f"the heaters were on for {minutes:.0f} min with nothing to do, and were turned off"))

    def _pass(self, now: Instant) -> None:
        """Account for the time since the last call."""
        if self._moment is not None and self.progress is not None:
            passed = (now.shop - self._moment.shop).total_seconds()
            if self.state is MachineState.BUILDING:
                self.progress.laying_s += passed
            elif self.state is MachineState.WARMING:
                self.progress.warming_s += passed
        self._moment = now

    def _tell(self, happening: ControlEvent) -> None:
        assert self._moment is not None
        self._events.append((self._moment.shop, happening))

    def _move(self, event: MachineEvent, reason: str = "") -> None:
        self.state = after(MACHINE, self.state, event)
        self.reason = reason
        self._tell(StateChanged(self.state, reason, self.build))

    def _heat_alarm(self, heat: Temperatures) -> str:
        """Keep a heat report. Returns what is wrong with a heater, or nothing."""
        self.heat = heat
        assert self._moment is not None
        readings = ((heat.nozzle_c, heat.nozzle_asked_c), (heat.bed_c, heat.bed_asked_c))
        for watch, (measured, asked) in zip(self._watches, readings, strict=True):
            if measured is None:
                continue
            alarm = watch.take(self._moment.shop, measured, asked or 0.0)
            if alarm:
                return alarm
        return ""

    def _laying_begun(self) -> bool:
        assert self.progress is not None
        layers = self.progress.plan.layers
        return not layers or self.progress.acknowledged > layers[0]

    def _lay(self) -> None:
        assert self.progress is not None
        self._move(MachineEvent.LAID)
        self.progress.begin_laying()

    def _ended(self) -> None:
        assert self.progress is not None
        outcome, reason = self._ending
        done = self.progress.plan.at(self.progress.acknowledged)
        taken = self.progress.acknowledged
        self._tell(BuildEnded(self._spec().build, outcome, reason, taken, done.planned_s, done.filament_mm))

    def _layer_index(self, layer: int) -> int:
        """How many commands come before a layer. Raises WrongState when there is no such layer."""
        layers = self._spec().plan.layers
        if not 1 <= layer <= len(layers):
            raise WrongState(f"The file has {len(layers)} layers; there is no layer {layer}.")
        return layers[layer - 1]
