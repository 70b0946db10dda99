"""What if: questions and answers."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from chronarch.core.bounds import Number
from chronarch.core.planning.snapshot import Strategy
from chronarch.core.time_range import TimeRange
from chronarch.wire.common import GivenTime, Label, Promise, Time, Wire
from chronarch.wire.planning.plan import PlannedBuild
from chronarch.wire.planning.settings import StaffedSpan


class IfDue(Wire):
    """An order (or a job) is due by a time."""

    kind: Literal["due"] = "due"
    order: Number | None = None
    job: Number | None = None
    due: GivenTime

    @model_validator(mode="after")
    def _one(self) -> IfDue:
        if (self.order is None) == (self.job is None):
            raise ValueError("say which order or which job is to be due then")
        return self


class IfMachine(Wire):
    """A machine works that does not now, or the other way round."""

    kind: Literal["machine"] = "machine"
    machine: Label
    works: bool


class IfStaffed(Wire):
    """Somebody is there in this span too."""

    kind: Literal["staffed"] = "staffed"
    begin: GivenTime
    end: GivenTime
    site: Label = ""


class IfMore(Wire):
    """More machines like one of the shop (by its name), or of a model (the first machine of it is copied)."""

    kind: Literal["more"] = "more"
    like: Label
    many: int = Field(default=1, ge=1, le=100)


class IfStrategy(Wire):
    """Another strategy."""

    kind: Literal["strategy"] = "strategy"
    strategy: Strategy


class WhatIf(Wire):
    """A question: all of these changes together."""

    changes: list[IfDue | IfMachine | IfStaffed | IfMore | IfStrategy] = Field(min_length=1, max_length=20)


class OrderOutlook(Wire):
    """When an order (or a job that belongs to none) would be complete."""

    order: int | None = None
    job: int | None = None
    name: str
    due: Time | None = None
    expected: TimeRange | None = None
    chance: float | None = None
    promise: Promise


class Outlook(Wire):
    """A plan in figures."""

    orders: list[OrderOutlook]
    ready: Time | None = None
    """When all that waits now and can be made would be done, most likely."""
    cannot: int = 0
    """Jobs that no machine can make as things are."""
    productive: float
    """The share of the next seven days in which the machines would make parts, 0 to 1."""
    in_time: int
    due: int
    """Orders and jobs that are due, and how many of them will likely be in time."""
    changes: int
    """Spools and nozzles to change."""
    builds: list[PlannedBuild]


class WhatIfAnswer(Wire):
    """Both plans beside each other; nothing of the shop has changed."""

    question: str
    now: Outlook
    then: Outlook
    staffed: list[StaffedSpan]
    answer: str
    """The answer in words."""
