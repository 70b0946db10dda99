"""Is it worth a machine?"""

from __future__ import annotations

from pydantic import Field

from chronarch.wire.common import Time, Wire


class MonthOutcome(Wire):
    """What became, or would become, of the time: builds that ended in it, the mean hours from when a build could have
    begun until it did, jobs that were due and those of them in time, and the hours that beds waited for hands."""

    builds: int
    wait_h: float
    due: int
    in_time: int
    beds_h: float


class WorthScenario(Wire):
    """One change, and what the planner would have made of the time with it."""

    name: str
    """hands, or a machine's model after `more`, or a machine's name after `less`: `more Kiln 250`, `less Gnomon`."""
    text: str
    outcome: MonthOutcome
    builds_more: int
    wait_less_h: float


class Worth(Wire):
    """What the work of a time waited for, and what would have helped. Hours that builds waited, together: while all
    machines that fit were at work, while one of them only needed hands, and while one was free and something else kept
    it from the work."""

    begin: Time
    end: Time
    jobs: int
    builds: int
    machines_h: float
    hands_h: float
    other_h: float
    recorded: MonthOutcome
    planned: MonthOutcome
    """What the planner makes of the time as it was."""
    scenarios: list[WorthScenario] = Field(default=[])
    """The one that helps most first."""
    answer: str
