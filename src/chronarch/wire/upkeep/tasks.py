"""Upkeep: what is to be done when, what was done, how long parts last, and what calibration checks measured."""

from __future__ import annotations

from typing import Annotated, Literal

from annotated_types import Interval, Len
from pydantic import Field, model_validator

from chronarch.core.bounds import Figure
from chronarch.core.machines.upkeep_calls import Blocks
from chronarch.core.upkeep.calibration import CalibrationVerdict, Limits
from chronarch.core.upkeep.faults_after import Lateness
from chronarch.core.upkeep.wear import WeibullFit
from chronarch.wire.common import GivenTime, Hash, Label, Time, Wire, as_is

as_is(Limits, Lateness, WeibullFit)
Amount = Annotated[float, Interval(gt=0, le=1e7)]
MOST_PARTS, MOST_PICTURES = 20, 12
Parts = Annotated[list[Label], Len(0, MOST_PARTS)]


class DueWhen(Wire):
    """After how much of what a task is due; whichever comes first."""

    hours: Amount | None = None
    """Of warming and building."""
    builds: Annotated[int, Interval(ge=1, le=10_000_000)] | None = None
    metres: Amount | None = None
    """Of filament; a metre of an abrasive one counts for eight."""
    days: Amount | None = None
    faults: Annotated[list[Annotated[str, Len(1, 60)]], Len(0, 20)] = Field(default_factory=list)
    """Words of reasons why a machine goes down: after one of these it is due at once."""

    @model_validator(mode="after")
    def _some(self) -> DueWhen:
        if not (self.hours or self.builds or self.metres or self.days or self.faults):
            raise ValueError("say after how much it is due: hours, builds, metres, days or a fault")
        return self


class CalibrationCheck(Wire):
    """What a calibration check measures: the value that it should be, how far off it may be, and its unit. `source`:
    who measures. `level map`: the range of each new bed level map; `heating`: how long a hot end takes until it
    holds what was asked, s."""

    nominal: Figure
    tolerance: Annotated[float, Interval(gt=0, le=1e9)]
    unit: Annotated[str, Len(0, 20)] = ""
    source: Literal["hand", "level map", "heating"] = "hand"


class NewUpkeepTask(Wire):
    """Something to be done again and again: at one machine, at all of a model, or at all."""

    name: Annotated[Label, Len(1)]
    model: Label = ""
    machine: Label = ""
    due: DueWhen
    minutes: Annotated[float, Interval(ge=0, le=10_000)] = 15.0
    text: Annotated[str, Len(0, 8000)] = ""
    """What to do."""
    parts: Parts = Field(default_factory=list)
    """What is needed for it."""
    part: Label = ""
    """The wear part that is replaced."""
    blocks: Blocks = Blocks.NOTHING
    """What it does when it is due; a check also when it is out of tolerance."""
    check: CalibrationCheck | None = None
    """What is measured, where it is a calibration check."""

    @model_validator(mode="after")
    def _one_place(self) -> NewUpkeepTask:
        if self.model and self.machine:
            raise ValueError("a task is for a model or for a machine, not for both")
        return self


class UpkeepTask(NewUpkeepTask):
    id: int
    pictures: list[Hash]
    since: Time
    """From when it counts where it was never done."""
    made_by: str


class UpkeepOffer(Wire):
    """When a task costs least production: a time in which somebody is there."""

    begin: Time
    end: Time
    costs_min: float
    """By how long it delays what the machine would build then."""


class DueTask(Wire):
    """A task at a machine: how near it is to being due."""

    task: int
    name: str
    machine: str
    site: str
    share: float | None
    """Of what it allows, used; 1 and more: due. None: due because of a fault."""
    due: bool
    text: str
    """The rule that is nearest, in words."""
    minutes: float
    blocks: Blocks
    part: str
    check: bool
    last: Time | None
    """When it was done there last; None where it never was."""
    due_at: Time | None
    """When it will be due as the machine is used now; None where that is more than a year away."""
    out: str = ""
    """What the last measured value says, if it is out of tolerance."""
    window: UpkeepOffer | None = None
    """When the machine is kept free for it."""
    offer: UpkeepOffer | None = None
    """When it would cost least, if it is due within two weeks and no time is kept for it yet."""


class NewUpkeepDone(Wire):
    """What was done at a machine, or measured."""

    machine: Label
    task: Annotated[int, Interval(ge=1, le=2**31 - 1)] | None = None
    name: Label = ""
    """What it was, where it was no task."""
    at: GivenTime | None = None
    """Now without it."""
    minutes: Annotated[float, Interval(ge=0, le=10_000)] | None = None
    note: Annotated[str, Len(0, 2000)] = ""
    parts: Parts = Field(default_factory=list)
    part: Label = ""
    """The wear part that was replaced; the task's own without it."""
    worn: bool = True
    """Whether the part that came off was worn out."""
    value: Figure | None = None
    """What a check measured, in its unit."""


class UpkeepDone(Wire):
    id: int
    machine: str
    task: int | None
    name: str
    at: Time
    by: str
    minutes: float | None
    note: str
    parts: list[str]
    part: str
    worn: bool
    value: float | None
    unit: str
    photo: bool
    since: Time | None
    """When it was done before."""
    late: float | None
    """The share of what the task allows that was used: 1.2 is a fifth late. None where that does not matter."""


class UpkeepLogEntry(Wire):
    """One entry of a machine's log: something that was done, or a fault."""

    at: Time
    machine: str
    fault: str = ""
    """Why it went down, where that is what happened."""
    lasted_min: float | None = None
    done: UpkeepDone | None = None


class TaskLateness(Wire):
    task: int
    name: str
    lateness: Lateness


class FittedPart(Wire):
    """A wear part on a machine: since when, and what it has done."""

    machine: str
    model: str
    part: str
    fitted: Time | None
    """None: before the records begin, so that it has done more than is counted."""
    since: Time
    hours: float
    builds: int
    grams: dict[str, float]
    """By material."""
    life: WeibullFit | None
    """How long such parts last on machines of the model, hours; None while fewer than three were worn out."""
    left: float | None
    """The probability that it lasts another 100 hours, of those that came as far."""
    text: str


class CheckReading(Wire):
    at: Time
    value: float
    by: str
    note: str


class CalibrationTrend(Wire):
    """What a calibration check measured at a machine, oldest first, and what the newest value says."""

    task: int
    name: str
    machine: str
    nominal: float
    tolerance: float
    unit: str
    verdict: CalibrationVerdict | None
    text: str
    limits: Limits | None
    """Within which the values before the newest used to lie; None of fewer than five."""
    readings: list[CheckReading]
