"""When somebody is there: the hours of a week in the shop's own zone, with exceptions for single days."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo

Span = tuple[datetime, datetime]
Minutes = tuple[int, int]
"""From and up to, minutes after midnight."""

DAY_MIN = 24 * 60


@dataclass(frozen=True)
class ShiftPattern:
    """The hours when somebody is there. `week` has a row for each day from Monday on. `days` are dates with hours of
    their own (none: closed). `people` is how many people work at once."""

    week: tuple[tuple[Minutes, ...], ...] = ((),) * 7
    days: Mapping[date, tuple[Minutes, ...]] = field(default_factory=dict)
    zone: str = "UTC"
    people: int = 1

    def of(self, day: date) -> tuple[Minutes, ...]:
        """The spans of one date, in minutes after its midnight."""
        return self.days.get(day, self.week[day.weekday()])

    def spans(self, begin: datetime, end: datetime) -> list[Span]:
        """The staffed spans that touch begin..end, whole, oldest first; neighbours that touch are one."""
        zone = ZoneInfo(self.zone)
        found: list[Span] = []
        day = begin.astimezone(zone).date() - timedelta(days=1)
        last = end.astimezone(zone).date()
        while day <= last:
            for a, b in sorted(self.of(day)):
                one = (_at(day, a, zone), _at(day, b, zone))
                if one[1] <= begin or one[0] >= end or one[1] <= one[0]:
                    continue
                if found and one[0] <= found[-1][1]:
                    found[-1] = (found[-1][0], max(found[-1][1], one[1]))
                else:
                    found.append(one)
            day += timedelta(days=1)
        return found

    def with_day(self, day: date, *spans: Minutes) -> ShiftPattern:
        """The same hours, but for one date."""
        return ShiftPattern(self.week, {**self.days, day: spans}, self.zone, self.people)


def _at(day: date, minutes: int, zone: ZoneInfo) -> datetime:
    midnight = datetime.combine(day, time(), zone)
    return midnight + timedelta(minutes=minutes)  # wall time, so that a day of 23 hours opens at the usual hour


def weekdays(begin_h: float, end_h: float, people: int = 1, zone: str = "UTC") -> ShiftPattern:
    """The same hours from Monday to Friday, none at the weekend."""
    span = (round(begin_h * 60), round(end_h * 60))
    return ShiftPattern(tuple((span,) if n < 5 else () for n in range(7)), {}, zone, people)


ALWAYS = ShiftPattern(((((0, DAY_MIN),)),) * 7)


class Staffing:
    """Staffed spans over a stretch of time, for repeated questions. Without any span nobody ever comes."""

    def __init__(self, spans: Iterable[Span]) -> None:
        self.spans: Sequence[Span] = list(spans)
        self._begins = [begin for begin, _ in self.spans]

    def span_at(self, at: datetime) -> Span | None:
        """The span `at` lies in."""
        place = bisect_right(self._begins, at) - 1
        return self.spans[place] if place >= 0 and at < self.spans[place][1] else None

    def next(self, at: datetime) -> datetime | None:
        """The first moment from `at` on when somebody is there; None when nobody comes any more."""
        if self.span_at(at):
            return at
        place = bisect_right(self._begins, at)
        return self._begins[place] if place < len(self._begins) else None

    def between(self, begin: datetime, end: datetime) -> timedelta:
        """How much of begin..end is staffed."""
        total = timedelta()
        for a, b in self.spans:
            if b > begin and a < end:
                total += min(b, end) - max(a, begin)
        return total
