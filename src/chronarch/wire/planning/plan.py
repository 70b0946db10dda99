"""The plan, and why jobs wait."""

from __future__ import annotations

from pydantic import Field

from chronarch.core.planning.explanations import Blocked
from chronarch.core.planning.snapshot import Strategy
from chronarch.core.planning.together import BedsTogether
from chronarch.core.time_range import TimeRange
from chronarch.wire.common import Time, Wire, as_is
from chronarch.wire.planning.settings import StaffedSpan

as_is(BedsTogether, Blocked)


class JobWhy(Wire):
    """Why a job waits: each machine with its reasons, and the smallest change that would start it."""

    job: int
    why: str
    change: str = ""
    next: str = ""
    """What the plan has for it next, in words."""
    machines: list[Blocked]


class PlannedBuild(Wire):
    """One planned build on a machine."""

    machine: str
    job: int
    what: str
    start: TimeRange
    end: TimeRange
    cleared: TimeRange
    hands: Time | None = None
    """When a person is needed before it, to load, change a nozzle or start it."""
    load: str = ""
    nozzle: str = ""
    why: str
    """Why it is this build and not another."""


class MachineOutlook(Wire):
    """What a machine does before its first planned build."""

    machine: str
    end: TimeRange | None = None
    """When its present build ends."""
    cleared: TimeRange | None = None
    idle: str = ""
    """Why it is idle, if it is and nothing is planned to start there now."""


class PlanWithForecast(Wire):
    """What each machine does next, in order of start, and when."""

    at: Time
    strategy: Strategy
    meaning: str
    """What the strategy means."""
    builds: list[PlannedBuild]
    machines: list[MachineOutlook]
    staffed: list[StaffedSpan]
    conflicts: list[BedsTogether] = Field(default_factory=list)
    unplaced: dict[int, int] = Field(default_factory=dict)
    """Builds that no machine can take as things are, by job."""
