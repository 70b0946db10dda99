"""Whether faults follow upkeep that is done late: how often a machine went down while a task was overdue, beside the
rest of the time."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

DAY = timedelta(days=1)


@dataclass(frozen=True)
class DoneOnce:
    """A task done at a machine: when, when it was done before, the share of what it allows that was used (1: when it
    was due), and when the machine went down between."""

    since: datetime
    at: datetime
    share: float
    down: Sequence[datetime]

    @property
    def due_at(self) -> datetime:
        """When it was due, if the machine was used evenly; when it was done, if that was in time."""
        return self.at if self.share <= 1 else self.since + (self.at - self.since) / self.share


@dataclass(frozen=True)
class Lateness:
    """`late` of `times` were done late, by `days` on average; faults in 100 days of time overdue and of the rest, None
    where there was none of that time."""

    times: int
    late: int
    days: float
    faults_overdue: float | None
    faults_else: float | None


def lateness(done: Iterable[DoneOnce]) -> Lateness:
    """How late a task was done, and whether faults came while it was overdue."""
    every = list(done)
    late = [one for one in every if one.share > 1]
    over = sum(((one.at - one.due_at) / DAY for one in every), 0.0)
    rest = sum(((one.due_at - one.since) / DAY for one in every), 0.0)
    during = sum(at >= one.due_at for one in every for at in one.down)
    before = sum(at < one.due_at for one in every for at in one.down)
    return Lateness(
        len(every), len(late), over / len(late) if late else 0.0,
        100 * during / over if over > 0 else None, 100 * before / rest if rest > 0 else None,
    )  # fmt: skip
