"""Where upkeep costs least production: in a gap of a machine's plan, while somebody is there, before it is due."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from chronarch.core.planning.shifts import Span

STEP = timedelta(minutes=15)


@dataclass(frozen=True)
class Place:
    """A time for upkeep, and by how much it delays what the machine would build then."""

    begin: datetime
    end: datetime
    costs: timedelta


def best_place(
    busy: Sequence[Span], staffed: Iterable[Span], now: datetime, until: datetime, takes: timedelta
) -> Place | None:
    """The time that costs least before `until`; of equal ones the earliest. `busy` are the spans in which the machine
    is to build or its bed is not clear, in order of their beginning: upkeep interrupts none of them, and pushes back
    those that follow. None where nobody is there for as long as it takes."""
    found: Place | None = None
    taken = _joined(busy)
    begins = [begin for begin, _ in taken]
    for open_from, open_to in staffed:
        for begin in _starts(taken, max(open_from, now), min(open_to, until) - takes):
            place = bisect_right(begins, begin) - 1
            if place >= 0 and taken[place][0] < begin < taken[place][1]:
                continue
            following = bisect_left(begins, begin)
            pushed = begin + takes - begins[following] if following < len(begins) else timedelta(0)
            costs = max(timedelta(0), pushed)
            if found is None or costs < found.costs:
                found = Place(begin, begin + takes, costs)
            if not costs:
                return found  # none costs less, and those after it are later
    return found


def _joined(busy: Iterable[Span]) -> list[Span]:
    """The same time as spans of which none begins within another."""
    found: list[Span] = []
    for begin, end in busy:
        if found and begin < found[-1][1]:
            found[-1] = (found[-1][0], max(found[-1][1], end))
        else:
            found.append((begin, end))
    return found


def _starts(busy: Sequence[Span], first: datetime, last: datetime) -> list[datetime]:
    """Times from the first to the last at which upkeep may begin: at once, when the machine comes free, and each
    quarter of an hour."""
    if first > last:
        return []
    found = {first, *(b for _, b in busy if first <= b <= last)}
    at = first
    while (at := at + STEP) <= last:
        found.add(at)
    return sorted(found)
