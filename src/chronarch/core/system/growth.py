"""How what is kept grows, and when a disk will be full."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

LEAST_DAYS = 2
"""Over fewer days nothing can be said."""


def growth_a_day(sizes: Sequence[tuple[date, int]]) -> float | None:
    """By how many bytes something grows in a day: the slope of the straight line that fits best (least squares); None
    where it is known of too few days. What shrinks grows by a negative number.

    >>> growth_a_day([(date(2026, 10, 1), 100), (date(2026, 10, 3), 140)])
    20.0
    """
    days = [day.toordinal() for day, _ in sizes]
    if not days or max(days) - min(days) < LEAST_DAYS:
        return None
    mean_day, mean = sum(days) / len(days), sum(size for _, size in sizes) / len(sizes)
    spread = sum((day - mean_day) ** 2 for day in days)
    return sum((day - mean_day) * (size - mean) for day, (_, size) in zip(days, sizes, strict=True)) / spread


@dataclass
class Growing:
    """Something that grows by so many bytes a day until it has used up its room; for ever without one."""

    a_day: float
    room: float | None = None


def days_until_full(free: float, several: Iterable[Growing]) -> float | None:
    """In how many days what grows has taken the free bytes; None where it never does.

    >>> days_until_full(100, [Growing(10), Growing(10, room=20)])
    8.0
    """
    going, passed = [Growing(one.a_day, one.room) for one in several if one.a_day > 0], 0.0
    while going:
        rate = sum(one.a_day for one in going)
        ends = [one.room / one.a_day for one in going if one.room is not None]
        step = min(ends, default=float("inf"))
        if free <= rate * step:
            return passed + free / rate
        free, passed = free - rate * step, passed + step
        for one in going:
            one.room = None if one.room is None else one.room - one.a_day * step
        going = [one for one in going if one.room is None or one.room > one.a_day * 1e-9]
    return None
