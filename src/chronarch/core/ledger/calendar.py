"""A period cut into spans by the calendar of a place: by month, week, day, weekday, hour, and whether somebody was
there."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from enum import StrEnum
from zoneinfo import ZoneInfo

import numpy as np

from chronarch.core.ledger.turnaround import Times, microseconds
from chronarch.core.planning.shifts import ShiftPattern, Staffing


class TimePart(StrEnum):
    """What of the calendar figures are asked by."""

    MONTH = "month"
    WEEK = "week"
    DAY = "day"
    WEEKDAY = "weekday"
    HOUR = "hour"
    SHIFT = "shift"


QUARTER = timedelta(minutes=15)
"""All clocks are set on, and change at, whole quarters of an hour."""
STAFFED, AWAY = "staffed", "away"
Labels = tuple[str, ...]


@dataclass(frozen=True)
class TimeSpans:
    """Spans that follow one another: `edges` are their beginnings and the last one's end, `labels` has for each span
    one label a part of the calendar that was asked for."""

    edges: Times
    labels: list[Labels]

    def of(self, labels: Labels) -> list[tuple[int, int]]:
        """From when to when the spans of these labels reach, each by itself."""
        ends = self.edges.tolist()
        return [(a, b) for one, a, b in zip(self.labels, ends, ends[1:], strict=False) if one == labels]


def cut(begin: datetime, end: datetime, parts: Sequence[TimePart], pattern: ShiftPattern) -> TimeSpans:
    """Cut begin..end wherever one of these parts changes, by the clock and the hours of a place. Months, weeks (ISO
    8601) and days are named as such (`2026-11`, `2026-W48`, `2026-11-30`), weekdays from 1 (Monday), hours from 00."""
    zone = ZoneInfo(pattern.zone)
    staffed = pattern.spans(begin, end) if TimePart.SHIFT in parts else []
    staffing = Staffing(staffed)
    points = {begin}
    points.update(at for span in staffed for at in span)
    if TimePart.HOUR in parts:
        points.update(_quarters(begin, end))
    elif any(part is not TimePart.SHIFT for part in parts):
        points.update(_midnights(begin, end, zone))
    edges, labels = [], list[Labels]()
    for at in sorted(point for point in points if begin <= point < end):
        label = tuple(_label(part, at, at.astimezone(zone), staffing) for part in parts)
        if not labels or labels[-1] != label:
            edges.append(microseconds(at))
            labels.append(label)
    return TimeSpans(np.array([*edges, microseconds(end)], np.int64), labels)


def _quarters(begin: datetime, end: datetime) -> Iterable[datetime]:
    at = begin.replace(minute=begin.minute // 15 * 15, second=0, microsecond=0)
    while (at := at + QUARTER) < end:
        yield at


def _midnights(begin: datetime, end: datetime, zone: ZoneInfo) -> Iterable[datetime]:
    day, last = begin.astimezone(zone).date(), end.astimezone(zone).date()
    while (day := day + timedelta(days=1)) <= last:
        yield _midnight(day, zone).astimezone(begin.tzinfo)


def _midnight(day: date, zone: ZoneInfo) -> datetime:
    return datetime.combine(day, time(), zone)


def _label(part: TimePart, at: datetime, there: datetime, staffing: Staffing) -> str:
    match part:
        case TimePart.MONTH:
            return f"{there:%Y-%m}"
        case TimePart.WEEK:
            year, week, _ = there.isocalendar()
            return f"{year}-W{week:02}"
        case TimePart.DAY:
            return f"{there:%Y-%m-%d}"
        case TimePart.WEEKDAY:
            return str(there.isoweekday())
        case TimePart.HOUR:
            return f"{there:%H}"
        case TimePart.SHIFT:
            return STAFFED if staffing.span_at(at) else AWAY


@dataclass(frozen=True)
class StateChanges:
    """A machine's ledger as columns: when each interval began, and which state that was, by its place among the
    states. Each lasts until the next begins, the last one until `until`."""

    begins: Times
    states: np.ndarray[tuple[int], np.dtype[np.int8]]
    until: int


def time_spent(changes: StateChanges, edges: Times, states: int) -> Times:
    """Microseconds that a machine spent in each state (columns) within each span (rows) between edges."""
    ends = np.append(changes.begins[1:], changes.until)
    lengths = np.maximum(ends - changes.begins, 0)
    found = np.zeros((len(edges) - 1, states), np.int64)
    for state in np.unique(changes.states):
        of = changes.states == state
        begins, long = changes.begins[of], lengths[of]
        before = np.concatenate([[0], np.cumsum(long)])
        last = np.searchsorted(begins, edges, side="right") - 1
        within = np.minimum(edges - begins[last], long[last])
        found[:, state] = np.diff(np.where(last >= 0, before[last] + within, 0))
    return found


def times_begun(changes: StateChanges, edges: Times, state: int) -> Times:
    """How many times a machine came to a state within each span between edges."""
    begins = changes.begins[changes.states == state]
    return np.diff(np.searchsorted(begins, edges, side="left"))
