"""What minding any machine has in common, whichever way it is fed: its state, its link's comings and goings, its build.

A mind takes the machine's words, a person's wishes and the passing of time, and says what happened. `steward.Steward`
minds a machine that is fed line by line, `stored.StoredSteward` one that runs the file itself.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from dataclasses import dataclass, replace
from datetime import datetime

from chronarch.core.answers import Heat
from chronarch.core.asides import Aside
from chronarch.core.contact import Contact
from chronarch.core.fleet import MachineModel
from chronarch.core.gcode.plan import Plan
from chronarch.core.hands import Action, Adjust, Standing
from chronarch.core.hands import Moment as HandsMoment
from chronarch.core.happenings import BuildEnded, Happening, Noticed, StateChanged
from chronarch.core.heat import BED, NOZZLE, HeaterWatch
from chronarch.core.line_link import Program, Steps
from chronarch.core.progress import Progress
from chronarch.core.states import MACHINE, MachineEvent, MachineState, Outcome, WrongState, after

OFFLINE_AFTER_S = 10.0
"""Real seconds without a link before the machine counts as offline: shorter cuts heal unseen."""


RUNS_ITSELF = "This machine runs the whole file itself; what it runs cannot be changed under way."


@dataclass(frozen=True)
class Moment:
    """One instant on both clocks: real seconds from any start, and shop time."""

    real_s: float
    shop: datetime


@dataclass(frozen=True)
class Errand:
    """A build as a mind gets it: its number, its time plan, the file's commands and content."""

    build: int
    plan: Plan
    program: Program
    pace: float = 1.0
    """What such machines are known to take, as a factor on the planned time."""
    sha256: str = ""


@dataclass(frozen=True)
class Settings:
    """What hands have set of a running build: %, and mm from what the file says."""

    speed_pct: float = 100.0
    flow_pct: float = 100.0
    fan_pct: float | None = None
    z_offset_mm: float = 0.0

    def with_(self, a: Adjust) -> Settings:
        given = {k: getattr(a, k) for k in self.__dataclass_fields__ if getattr(a, k) is not None}
        return replace(self, **given)


@dataclass
class Pausing:
    """A pause that is wanted: why, whether nobody asked for it, and what is to be with the heaters."""

    reason: str
    by_itself: bool = False
    heaters_off: bool = False


class Mind(ABC):
    """One machine's mind. Raises WrongState when asked for what its state does not allow."""

    def __init__(self, model: MachineModel, state: MachineState) -> None:
        self.model = model
        self.state = state
        self.reason = ""
        self.errand: Errand | None = None
        self.progress: Progress | None = None
        self.heat = Heat()
        self.settings = Settings()
        self.contact = Contact()
        self.watchdog: bool | None = None
        """Whether the machine watches its heaters itself; None while that is not known."""
        self.position_mm: tuple[float, float, float] | None = None
        self.offline = False
        self.wants_reconnect = False
        self._watches = (HeaterWatch(NOZZLE), HeaterWatch(BED))
        self._happened: list[tuple[datetime, Happening]] = []
        self._moment: Moment | None = None
        self._lost_at_s: float | None = None
        self._touched_at: datetime | None = None
        self._ending = (Outcome.COMPLETED, "")

    # What comes out ------------------------------------------------------------------------------------------

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
    @abstractmethod
    def ready(self) -> bool:
        """Whether a build may begin."""

    @property
    @abstractmethod
    def moment(self) -> HandsMoment:
        """What the machine is at, as far as hands are concerned."""

    @property
    def suspect(self) -> bool:
        """Whether the machine leaves what it is told without an answer."""
        return False

    @property
    @abstractmethod
    def can_resume(self) -> bool:
        """Whether a paused build stands parked, so that it can go on."""

    @property
    @abstractmethod
    def stopping(self) -> bool:
        """Whether a build's end has been begun or is over."""

    def standing(self) -> Standing:
        """The machine as an action finds it."""
        laden = self.errand is not None or self.state in (MachineState.COOLING, MachineState.UNCLEARED)
        return Standing(self.moment, self.heat.nozzle_c, self.position_mm, laden)

    # What people and the service ask -----------------------------------------------------------------------

    @abstractmethod
    def begin(self, errand: Errand, now: Moment) -> None:
        """Start a build."""

    @abstractmethod
    def pause(self, reason: str, now: Moment, *, by_itself: bool = False, heaters_off: bool = False) -> None: ...

    @abstractmethod
    def resume(self, now: Moment) -> None: ...

    @abstractmethod
    def stop(self, reason: str, now: Moment, outcome: Outcome = Outcome.STOPPED) -> None: ...

    @abstractmethod
    def emergency(self, now: Moment) -> None: ...

    @abstractmethod
    def act(self, action: Action, now: Moment, by: str = "") -> Aside:
        """Do what hands ask. Raises NotPossible (out of limits, not now) and WrongState."""

    def pause_before(self, layer: int, now: Moment) -> None:
        """Pause once everything below `layer` is laid; 0 for once the present layer is."""
        raise WrongState(RUNS_ITSELF)

    def no_pause_before(self, layer: int, now: Moment) -> None:
        """Take back a pause before a layer."""
        raise WrongState(RUNS_ITSELF)

    def change_filament(self, reason: str, now: Moment) -> None:
        """Pause for a change of filament, or make one of the pause that is."""
        raise WrongState(RUNS_ITSELF)

    def skip(self, program: Program, plan: Plan, sha256: str, from_index: int, text: str, by: str, now: Moment) -> None:
        """Go on with an edited file that is the present one up to `from_index`."""
        raise WrongState(RUNS_ITSELF)

    def clear(self, now: Moment) -> None:
        """A person has cleared the bed."""
        self._pass(now)
        self.errand = self.progress = None
        if self.state is MachineState.DOWN:
            return
        self._move(MachineEvent.CLEAR)
        self._cleared()

    def take_model(self, model: MachineModel) -> None:
        """The model has other figures from now on."""
        self.model = model

    def take_out(self, reason: str, now: Moment) -> None:
        """A person takes the machine out of work."""
        self._pass(now)
        self._move(MachineEvent.TAKE_OUT, reason)

    def put_back(self, now: Moment) -> None:
        """A person gives the machine back to work, after service or a fault."""
        self._pass(now)
        if self.state is MachineState.DOWN:
            self._mended()
            laden = self.errand is not None
            self._move(MachineEvent.MENDED_WITH_PART if laden else MachineEvent.MENDED)
        else:
            self._move(MachineEvent.PUT_BACK)

    def uncleared(self, build: int, plan: Plan) -> None:
        """A build that has ended still lies on the bed (known from the service after a restart)."""
        self.errand = Errand(build, plan, Steps(()))

    # For the kinds of mind -----------------------------------------------------------------------------------

    @abstractmethod
    def _cleared(self) -> None:
        """The bed is clear."""

    @abstractmethod
    def _mended(self) -> None:
        """A fault was seen to."""

    def _errand(self) -> Errand:
        assert self.errand is not None
        return self.errand

    def _found(self) -> None:
        """The link stands again."""
        self._lost_at_s = None
        if self.offline:
            self.offline = False
            self._tell(StateChanged(self.state, "the link is back", self.build))

    def _lost(self, now: Moment) -> None:
        if self._lost_at_s is None:
            self._lost_at_s = now.real_s

    def _tick_common(self, now: Moment, at_rest: bool) -> None:
        """What time alone brings: a link gone for good, a bed cool enough."""
        if self._lost_at_s is not None and not self.offline and now.real_s - self._lost_at_s >= OFFLINE_AFTER_S:
            self.offline = True
            self._tell(StateChanged(MachineState.OFFLINE, "no link to the machine", self.build))
        if not at_rest:
            self._touched_at = None  # heaters that a build has used count from its end
        bed = self.heat.bed_c
        cool = bed is None or bed <= self.model.release_c
        if self.state is MachineState.COOLING and at_rest and cool and not self.offline:
            self._move(MachineEvent.COOLED)

    @abstractmethod
    def _heaters_off_now(self) -> None: ...

    def _idle_safety(self, now: Moment) -> None:
        """Heaters that nobody has touched for long, with nothing to do, go off."""
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

    def _heat_alarm(self, heat: Heat) -> str:
        """Keep a report; what is wrong with a heater, if anything is."""
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
        self._tell(BuildEnded(self._errand().build, outcome, reason, taken, done.planned_s, done.filament_mm))

    def _layer_index(self, layer: int) -> int:
        """The count of commands before a layer. Raises WrongState when there is no such layer."""
        layers = self._errand().plan.layers
        if not 1 <= layer <= len(layers):
            raise WrongState(f"The file has {len(layers)} layers; there is no layer {layer}.")
        return layers[layer - 1]
