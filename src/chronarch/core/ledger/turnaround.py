"""Turnaround: from the end of a build to the start of the next on the same machine."""

from __future__ import annotations

import itertools
import statistics
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal, get_args

from chronarch.core.planning.shifts import Staffing

Shift = Literal["all", "staffed", "away"]
"""Whether somebody was there when a build ended."""


@dataclass(frozen=True)
class BuildSpan:
    """When a build began and ended on its machine."""

    machine: str
    started: datetime
    ended: datetime


@dataclass(frozen=True)
class TurnaroundGap:
    """The time between two builds on a machine."""

    machine: str
    begin: datetime
    minutes: float
    staffed_min: float
    shift: Shift


@dataclass(frozen=True)
class TurnaroundSummary:
    """Gaps added up: how many, the median and the 90th percentile in minutes, and `lost_h`, all of them in hours."""

    name: str
    shift: Shift
    gaps: int
    middle_min: float
    late_min: float
    lost_h: float


def gaps(builds: Iterable[BuildSpan], staffing: Staffing) -> list[TurnaroundGap]:
    """The gaps between builds that follow one another on a machine."""
    by_machine: dict[str, list[BuildSpan]] = {}
    for b in builds:
        by_machine.setdefault(b.machine, []).append(b)
    found = []
    for machine, ran in sorted(by_machine.items()):
        ran.sort(key=lambda b: b.started)
        for one, following in itertools.pairwise(ran):
            if following.started < one.ended:
                continue
            minutes = (following.started - one.ended) / timedelta(minutes=1)
            staffed = staffing.between(one.ended, following.started) / timedelta(minutes=1)
            shift: Shift = "staffed" if staffing.span_at(one.ended) else "away"
            found.append(TurnaroundGap(machine, one.ended, minutes, staffed, shift))
    return found


def summed(name: str, found: Sequence[TurnaroundGap]) -> list[TurnaroundSummary]:
    """A row for all gaps, one for those that began while somebody was there, one for the others."""
    return [_sum(name, shift, [g for g in found if shift in ("all", g.shift)]) for shift in get_args(Shift)]


def _sum(name: str, shift: Shift, found: Sequence[TurnaroundGap]) -> TurnaroundSummary:
    """One row. Medians, because a few nights would dominate a mean."""
    minutes = sorted(g.minutes for g in found)
    if not minutes:
        return TurnaroundSummary(name, shift, 0, 0.0, 0.0, 0.0)
    late = minutes[min(len(minutes) - 1, int(0.9 * len(minutes)))]
    return TurnaroundSummary(name, shift, len(minutes), statistics.median(minutes), late, sum(minutes) / 60)
