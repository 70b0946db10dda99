"""Which time a report is about: a week, a month or a shift by the clock of a place."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from enum import StrEnum
from itertools import pairwise
from zoneinfo import ZoneInfo

from chronarch.core.planning.shifts import ShiftPattern

LOOK_BACK = timedelta(days=70)
DAY = timedelta(days=1)


class ReportEvery(StrEnum):
    """How often a report comes."""

    WEEK = "week"
    """Monday to Sunday."""
    MONTH = "month"
    SHIFT = "shift"
    """At each end of a staffed time."""


@dataclass(frozen=True)
class ReportPeriod:
    """begin..end, and the period before it, which figures are compared with."""

    begin: datetime
    end: datetime
    before: tuple[datetime, datetime]


def last_period(every: ReportEvery, hour: int, pattern: ShiftPattern, now: datetime) -> ReportPeriod | None:
    """The newest period that is over and whose report is due: weeks and months are due at an hour of the day after;
    shifts as soon as they end. None where there was none in the last ten weeks."""
    ends = [span for span in _periods(every, pattern, now) if span[1] + _wait(every, hour) <= now]
    if len(ends) < 2:
        return None
    return ReportPeriod(*ends[-1], ends[-2])


def _wait(every: ReportEvery, hour: int) -> timedelta:
    return timedelta(0) if every is ReportEvery.SHIFT else timedelta(hours=hour)


def _periods(every: ReportEvery, pattern: ShiftPattern, now: datetime) -> list[tuple[datetime, datetime]]:
    """Periods up to now, oldest first."""
    if every is ReportEvery.SHIFT:
        return pattern.spans(now - LOOK_BACK, now)
    zone = ZoneInfo(pattern.zone)
    today = now.astimezone(zone).date()
    starts: list[date] = []
    day = today
    while len(starts) < 4:
        if day.weekday() == 0 if every is ReportEvery.WEEK else day.day == 1:
            starts.append(day)
        day -= DAY
    edges = [datetime.combine(one, time(), zone) for one in reversed(starts)]
    return list(pairwise(edges))
