"""The plan, its forecast, what-if, rounds, and what happened while somebody was away."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from chronarch.core.bounds import Number
from chronarch.core.dispatch.shop import Strategy
from chronarch.core.rounds import TaskKind
from chronarch.wire.common import GivenTime, Label, Promise, Range, Time, Wire
from chronarch.wire.shop import StaffedSpan


class Foreseen(Wire):
    """One build that the plan foresees on a machine."""

    machine: str
    job: int
    what: str
    start: Range
    end: Range
    cleared: Range
    hands: Time | None = None
    """When hands are wanted before it, to load, change a nozzle or start it."""
    load: str = ""
    nozzle: str = ""
    why: str
    """Why it is this build and not another."""


class OnMachine(Wire):
    """What a machine has before the plan's first build there."""

    machine: str
    end: Range | None = None
    """Of the build that runs."""
    cleared: Range | None = None
    idle: str = ""
    """Why it stands idle, when it does and nothing is planned to start there now."""


class Conflict(Wire):
    """Several beds that want hands at once."""

    at: Time
    machines: list[str]
    text: str


class Plan(Wire):
    """What each machine does next, in order of start, and when."""

    at: Time
    strategy: Strategy
    meaning: str
    """What the strategy means."""
    builds: list[Foreseen]
    machines: list[OnMachine]
    staffed: list[StaffedSpan]
    conflicts: list[Conflict] = Field(default_factory=list)
    unplaced: dict[int, int] = Field(default_factory=dict)
    """Builds that no machine can take as things are, by job."""


class IfDue(Wire):
    """An order (or a job) due by a time."""

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
    """A machine in work that is not, or out of work that is."""

    kind: Literal["machine"] = "machine"
    machine: Label
    works: bool


class IfStaffed(Wire):
    """Somebody there for a span too."""

    kind: Literal["staffed"] = "staffed"
    begin: GivenTime
    end: GivenTime
    site: Label = ""


class IfMore(Wire):
    """More machines like one of the shop's (its name), or of a model (the first machine of it is copied)."""

    kind: Literal["more"] = "more"
    like: Label
    many: int = Field(default=1, ge=1, le=100)


class IfStrategy(Wire):
    """Another strategy."""

    kind: Literal["strategy"] = "strategy"
    strategy: Strategy


class WhatIf(Wire):
    """A question: all of it holds at once."""

    changes: list[IfDue | IfMachine | IfStaffed | IfMore | IfStrategy] = Field(min_length=1, max_length=20)


class OrderOutlook(Wire):
    """When an order (or a job that belongs to none) would be complete."""

    order: int | None = None
    job: int | None = None
    name: str
    due: Time | None = None
    expected: Range | None = None
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
    """Share of the machines' next seven days that would make parts, 0 to 1."""
    in_time: int
    due: int
    """Orders and jobs that are due, and how many of them will likely be in time."""
    changes: int
    """Spools and nozzles to change."""
    builds: list[Foreseen]


class WhatIfAnswer(Wire):
    """Both plans side by side; nothing of the shop has changed."""

    question: str
    now: Outlook
    then: Outlook
    staffed: list[StaffedSpan]
    answer: str
    """In words."""


class TaskNext(Wire):
    """What the machine builds after that; `by_hand` when a person starts it."""

    what: str
    start: Time
    load: str = ""
    nozzle: str = ""
    nozzle_mm: float | None = None
    """Of the nozzle that is to be put on."""
    hardened: bool = False
    by_hand: bool = False


class RoundTask(Wire):
    """Something hands must do."""

    kind: TaskKind
    machine: str
    site: str
    place: str
    text: str
    since: Time
    free_until: Time | None
    """Until when it costs nothing to wait; None: it never costs anything."""
    lost_min: float
    """Machine minutes that waiting has cost so far."""
    build: int | None = None
    pieces: int = 1
    file: str = ""
    next: TaskNext | None = None
    walk: int
    """Its number in the order of one walk."""


class Coming(Wire):
    """A bed that will want hands."""

    machine: str
    site: str
    place: str
    at: Time
    late: Time
    what: str


class RoundBatch(Wire):
    at: Time
    machines: list[str]
    text: str


class Rounds(Wire):
    """What hands must do, soonest first, and what comes."""

    at: Time
    staffed: bool
    tasks: list[RoundTask]
    coming: list[Coming]
    batches: list[RoundBatch]
    scrap_reasons: list[str]
    site: str = ""
    helper: str = ""
    """The helper link's name, when it was asked through one."""


class SinceItem(Wire):
    at: Time
    machine: str
    kind: Literal["ended", "failed", "stopped", "waits", "paused", "down"]
    text: str
    build: int | None = None


class SinceYouLeft(Wire):
    """What happened while somebody was away."""

    left: Time | None
    now: Time
    items: list[SinceItem]
    ended: int
    failed: int
    waits: int
    good_hours: float
    """Machine hours that made parts meanwhile."""


class TurnaroundRow(Wire):
    """From the end of a build to the start of the next, minutes. `shift`: when the build ended."""

    name: str
    shift: Literal["all", "staffed", "away"]
    gaps: int
    middle_min: float
    late_min: float
    """Nine of ten were shorter."""
    lost_h: float


class TurnaroundReport(Wire):
    begin: Time
    end: Time
    machines: list[TurnaroundRow]
    fleet: list[TurnaroundRow]
