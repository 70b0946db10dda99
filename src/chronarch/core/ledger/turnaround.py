"""Turnaround: from the end of a build to the start of the next on the same machine."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Literal

import numpy as np

from chronarch.core.planning.shifts import Span

Shift = Literal["all", "staffed", "away"]
"""Whether somebody was there when a build ended."""
Times = np.ndarray[Any, np.dtype[np.int64]]
"""Microseconds since 1970 (UTC)."""
EPOCH = datetime(1970, 1, 1, tzinfo=UTC)
MICROSECOND = timedelta(microseconds=1)
MINUTE_US = 60_000_000


@dataclass(frozen=True)
class TurnaroundGaps:
    """The times between two builds on a machine, one element each: the machine's number, when it began, how many
    minutes it took, and whether somebody was there when it began."""

    machine: Times
    begin: Times
    minutes: np.ndarray[Any, np.dtype[np.float64]]
    staffed: np.ndarray[Any, np.dtype[np.bool_]]

    def only(self, wanted: np.ndarray[Any, Any]) -> TurnaroundGaps:
        return TurnaroundGaps(self.machine[wanted], self.begin[wanted], self.minutes[wanted], self.staffed[wanted])

    def by_machine(self) -> dict[int, TurnaroundGaps]:
        """The gaps of each machine that has any."""
        order = np.argsort(self.machine, kind="stable")
        machines, first = np.unique(self.machine[order], return_index=True)
        return (
            dict(zip(machines.tolist(), map(self.only, np.split(order, first[1:])), strict=True)) if len(order) else {}
        )


@dataclass(frozen=True)
class TurnaroundSummary:
    """Gaps added up: how many, the median and the 90th percentile in minutes, and `lost_h`, all of them in hours."""

    name: str
    shift: Shift
    gaps: int
    middle_min: float
    late_min: float
    lost_h: float


def microseconds(at: datetime) -> int:
    return (at - EPOCH) // MICROSECOND


def gaps(ran: Times, spans: Sequence[Span]) -> TurnaroundGaps:
    """The gaps between builds that follow one another on a machine. `ran` has a row for each build: the machine's
    number, its start, its end. `spans` are when somebody is there, oldest first."""
    ran = ran[np.lexsort((ran[:, 1], ran[:, 0]))]
    before, after = ran[:-1], ran[1:]
    follows = (before[:, 0] == after[:, 0]) & (after[:, 1] >= before[:, 2])
    before, after = before[follows], after[follows]
    ended = before[:, 2]
    begins, ends = (np.array([microseconds(span[n]) for span in spans], np.int64) for n in (0, 1))
    span = np.searchsorted(begins, ended, side="right") - 1
    staffed = (span >= 0) & (ended < np.append(ends, 0)[span])
    return TurnaroundGaps(before[:, 0], ended, (after[:, 1] - ended) / MINUTE_US, staffed)


def joined(several: Sequence[TurnaroundGaps]) -> TurnaroundGaps:
    """All gaps of several sites."""
    parts = [(one.machine, one.begin, one.minutes, one.staffed) for one in several]
    return TurnaroundGaps(*(np.concatenate(column) for column in zip(*parts, strict=True)))


def summed(name: str, found: TurnaroundGaps) -> list[TurnaroundSummary]:
    """A row for all gaps, one for those that began while somebody was there, one for the others."""
    shifts: tuple[tuple[Shift, Any], ...] = (("all", slice(None)), ("staffed", found.staffed), ("away", ~found.staffed))
    return [_sum(name, shift, np.sort(found.minutes[wanted])) for shift, wanted in shifts]


def _sum(name: str, shift: Shift, minutes: np.ndarray[Any, np.dtype[np.float64]]) -> TurnaroundSummary:
    """One row, of minutes that rise. Medians, because a few nights would dominate a mean."""
    if not len(minutes):
        return TurnaroundSummary(name, shift, 0, 0.0, 0.0, 0.0)
    middle = (minutes[(len(minutes) - 1) // 2] + minutes[len(minutes) // 2]) / 2
    late = minutes[min(len(minutes) - 1, int(0.9 * len(minutes)))]
    lost = float(minutes.sum()) / 60
    return TurnaroundSummary(name, shift, len(minutes), float(middle), float(late), lost)
