"""Rolling a ledger's old intervals up into days: each day keeps how long the machine was in each state, not when."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from datetime import UTC, date, datetime, time, timedelta

from chronarch.core.ledger.intervals import Interval, by_day
from chronarch.core.machines.states import MachineState


def rolled_up(ledger: Sequence[Interval], before: datetime) -> list[Interval]:
    """A ledger whose time before a midnight (UTC) is told by one interval a state and day, one after another in the
    order in which states first came that day. They name no builds; what lasts beyond that midnight is as it was. The
    time in each state of each day stays the same to the microsecond."""
    days: dict[date, dict[MachineState, int]] = defaultdict(dict)
    rest = []
    for interval in ledger:
        for day, microseconds in by_day(interval.begin, min(interval.end, before)):
            of_day = days[day]
            of_day[interval.state] = of_day.get(interval.state, 0) + microseconds
        if interval.end > before:
            rest.append(replace(interval, begin=max(interval.begin, before)))
    return _told_by_day(ledger, days) + rest


def _told_by_day(ledger: Sequence[Interval], days: dict[date, dict[MachineState, int]]) -> list[Interval]:
    found = []
    for day, states in sorted(days.items()):
        at = max(datetime.combine(day, time(), UTC), ledger[0].begin)
        for state, microseconds in states.items():
            end = at + timedelta(microseconds=microseconds)
            found.append(Interval(at, end, state))
            at = end
    return found
