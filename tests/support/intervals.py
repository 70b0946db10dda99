"""The ledger's arithmetic done the slow way, to compare with."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from datetime import datetime, timedelta

from chronarch.core.ledger.intervals import Interval
from chronarch.core.machines.states import MachineState


def clip(ledger: Iterable[Interval], begin: datetime, end: datetime) -> list[Interval]:
    """The parts of the intervals that lie within begin..end."""
    return [
        Interval(max(i.begin, begin), min(i.end, end), i.state, i.build)
        for i in ledger
        if i.begin < end and i.end > begin and max(i.begin, begin) < min(i.end, end)
    ]


def spent(ledger: Iterable[Interval]) -> Counter[MachineState]:
    """Microseconds in each state."""
    sums: Counter[MachineState] = Counter()
    for i in ledger:
        sums[i.state] += (i.end - i.begin) // timedelta(microseconds=1)
    return sums
