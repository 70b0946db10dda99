"""What all parts of a controller know of their machine and of the build on it, and what they have to tell."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass
from datetime import datetime

from chronarch.core.control.adjustments import BuildAdjustments
from chronarch.core.control.events import (
    BuildBegan,
    BuildEnded,
    BuildPaused,
    BuildResumed,
    ControlEvent,
    LayersLaid,
    Noticed,
    StateChanged,
)
from chronarch.core.control.film_taking import FilmTaking
from chronarch.core.control.firmware_info import FirmwareInfo
from chronarch.core.control.line_protocol import Program
from chronarch.core.control.odd_readings import HeatSwing, LayerTimes
from chronarch.core.control.progress import Progress
from chronarch.core.control.responses import Temperatures
from chronarch.core.gcode.plan import TimePlan
from chronarch.core.machines.model import MachineModel
from chronarch.core.machines.states import MACHINE, MachineEvent, MachineState, Outcome, WrongState, after


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
    film: FilmTaking | None = None
    shutter_s: float = 0.0
    """How long the head stands out of the picture once it has settled, shop seconds."""


NOZZLE_SWINGS_C, BED_SWINGS_C = 10.0, 6.0
"""How far heat may go up and down while a build is laid."""
TELL = "tell:"
"""What a file says with M118 and this at its beginning is told to people."""
LONGEST_SAID = 300


def said(command: bytes) -> tuple[str, str]:
    """The word of a command that says something, and what it says: printable, in one line."""
    word, _, text = command.decode("utf-8", "replace").partition(" ")
    return word.upper(), " ".join("".join(c for c in text if c.isprintable()).split())[:LONGEST_SAID]


class ControlledMachine:
    """One machine, the build on it, and what has happened since it was last asked."""

    def __init__(self, model: MachineModel, state: MachineState) -> None:
        self.model = model
        self.state = state
        self.reason = ""
        self.offline = False
        self.switched_off = False
        """Whether its plug says that it is off."""
        self.contact = FirmwareInfo()
        self.watchdog: bool | None = None
        """Whether the machine watches its heaters itself; None while that is not known."""
        self.heat = Temperatures()
        self.position_mm: tuple[float, float, float] | None = None
        self.head_mm: tuple[float, float, float] | None = None
        """Where the head stood when the machine last told, though its motors may be off since: enough to know where a
        camera sees it, too little to move it by."""
        self.spec: BuildSpec | None = None
        self.progress: Progress | None = None
        self.settings = BuildAdjustments()
        self.change = ""
        """How far a filament change has come: empty, `wanted`, or the last step done."""
        self.head_away = 0
        """How often the head has stood still outside the picture, so that a frame could be taken."""
        self.words = ""
        """What the file last had the machine show."""
        self.asks_hands = ""
        """What its display says that hands must do; empty when it shows what it would show anyway."""
        self.reported_at: datetime | None = None
        """When a machine that runs its file itself last said where it is, shop time; None for one that is fed."""
        self._said_to = 0
        """Up to where what the file says was told: not twice when the machine turns out to have taken less."""
        self.ending = (Outcome.COMPLETED, "")
        self.changed = False
        """Whether the checkpoint differs from the last one on disk in more than the place in the file."""
        self._layer_times = LayerTimes()
        self._swings = HeatSwing("nozzle", NOZZLE_SWINGS_C), HeatSwing("bed", BED_SWINGS_C)
        self.events: list[tuple[datetime, ControlEvent]] = []
        self.moment: Instant | None = None

    @property
    def build(self) -> int | None:
        return self.spec.build if self.spec else None

    @property
    def shown_state(self) -> MachineState:
        return MachineState.OFFLINE if self.offline else self.state

    def the_spec(self) -> BuildSpec:
        assert self.spec is not None
        return self.spec

    def the_progress(self) -> Progress:
        assert self.progress is not None
        return self.progress

    def now(self) -> Instant:
        assert self.moment is not None
        return self.moment

    # What happens --------------------------------------------------------------------------------------------

    def pass_time(self, now: Instant) -> None:
        """Account for the time since the last call."""
        if self.moment is not None and self.progress is not None:
            passed_s = (now.shop - self.moment.shop).total_seconds()
            if self.state is MachineState.BUILDING:
                self.progress.laying_s += passed_s
            elif self.state is MachineState.WARMING:
                self.progress.warming_s += passed_s
        self.moment = now

    def tell(self, event: ControlEvent) -> None:
        self.events.append((self.now().shop, event))

    def tell_once(self, reason: str) -> bool:
        """Tell people something that changes no state, unless it was the last thing told. Returns whether it is new."""
        if reason.split(":")[0] == self.reason.split(":")[0]:
            return False
        self.reason = reason
        self.tell(Noticed(reason, self.build))
        return True

    def take_events(self) -> list[tuple[datetime, ControlEvent]]:
        events, self.events = self.events, []
        return events

    def move(self, event: MachineEvent, reason: str = "") -> None:
        self.state = after(MACHINE, self.state, event)
        self.reason = reason
        self.tell(StateChanged(self.state, reason, self.build))

    def fault(self, reason: str) -> None:
        if self.state is not MachineState.DOWN:
            self.move(MachineEvent.FAULT, reason)

    # The build -----------------------------------------------------------------------------------------------

    def begin(self, spec: BuildSpec) -> None:
        """A build begins; nothing of an earlier one is left. Raises WrongState."""
        after(MACHINE, self.state, MachineEvent.START)
        self.spec, self.progress = spec, Progress(spec.plan, spec.pace)
        self.settings, self.change = BuildAdjustments(), ""
        self._layer_times = LayerTimes()
        self.position_mm = self.head_mm = None
        self.words, self._said_to = "", 0
        self.move(MachineEvent.START)
        self.tell(BuildBegan(spec.build))

    def advance(self, count: int) -> None:
        """The machine has taken so many commands of the file; what they said on the way is told."""
        progress = self.the_progress()
        if count <= progress.acknowledged:
            return
        says, before = self.the_spec().program.says, max(progress.acknowledged, self._said_to)
        progress.acknowledged, self._said_to = count, max(before, count)
        for place in range(bisect_left(says, before), bisect_left(says, count)):
            word, text = said(self.the_spec().program.command(says[place]))
            if word == "M117":
                self.words = text
            elif text.casefold().startswith(TELL):
                self.tell(Noticed(text[len(TELL) :].strip()[:LONGEST_SAID], self.build, about="file"))
        if self.state is MachineState.BUILDING:
            self._tell_odd(self._layer_times.look(progress, self.settings.speed_pct))
            self._tell_layers()

    def mind_heat(self) -> None:
        """Heat was reported: tell when it swings while a build is laid."""
        if self.state is not MachineState.BUILDING:
            return
        now, heat = self.now().shop, self.heat
        for swing, (measured, asked) in zip(
            self._swings, ((heat.nozzle_c, heat.nozzle_asked_c), (heat.bed_c, heat.bed_asked_c)), strict=True
        ):
            self._tell_odd(swing.take(now, measured, asked))

    def _tell_odd(self, text: str) -> None:
        if text:
            self.tell(Noticed(text, self.build, about="readings"))

    def _tell_layers(self, *, all: bool = False) -> None:
        """Tell how long layers took, some at a time."""
        if laid := self._layer_times.take_laid(self.the_progress(), all=all):
            self.tell(LayersLaid(self.the_spec().build, laid))

    def lay(self) -> None:
        """The first layer may have begun."""
        if self.state is MachineState.WARMING and self.laying_begun():
            self.move(MachineEvent.LAID)
            self.the_progress().begin_laying()

    def laying_begun(self) -> bool:
        progress = self.the_progress()
        return not progress.plan.layers or progress.acknowledged > progress.plan.layers[0]

    def pause(self, reason: str, by_itself: bool) -> None:
        """The build stands, or stands for another reason than before; `by_itself` when no person asked for it."""
        if self.state is MachineState.PAUSED:
            self.reason = reason
            self.tell(Noticed(reason, self.build))
        else:
            self.move(MachineEvent.PAUSE, reason)
            self.tell(BuildPaused(self.the_spec().build, reason, by_itself))

    def resume(self) -> None:
        self.move(MachineEvent.RESUME)
        self.tell(BuildResumed(self.the_spec().build))

    def end(self) -> None:
        """The build is over, as `ending` says."""
        outcome, reason = self.ending
        progress = self.the_progress()
        done = progress.plan.at(progress.acknowledged)
        if outcome is Outcome.COMPLETED:
            self._layer_times.complete(progress)
        self._tell_layers(all=True)
        self.tell(
            BuildEnded(self.the_spec().build, outcome, reason, progress.acknowledged, done.planned_s, done.filament_mm)
        )

    def layer_index(self, layer: int) -> int:
        """How many commands come before a layer. Raises WrongState when there is no such layer."""
        layers = self.the_spec().plan.layers
        if not 1 <= layer <= len(layers):
            raise WrongState(f"The file has {len(layers)} layers; there is no layer {layer}.")
        return layers[layer - 1]
