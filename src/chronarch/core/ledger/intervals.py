"""Arithmetic of the ledger: a machine's states as intervals that cover time with no gap and no overlap."""

from __future__ import annotations

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, date, datetime, time, timedelta

from chronarch.core.machines.states import PRODUCTIVE, MachineState

OPEN_END = datetime(9999, 12, 31, tzinfo=UTC)
"""The end of an interval that still lasts."""


@dataclass(frozen=True)
class Interval:
    """One machine in one state from `begin` up to, not including, `end`."""

    begin: datetime
    end: datetime
    state: MachineState
    build: int | None = None
    reason: str = ""
    """Why it came to that state."""


def append(
    ledger: Sequence[Interval], at: datetime, state: MachineState, build: int | None = None, reason: str = ""
) -> list[Interval]:
    """The ledger with `state` from `at` on; the last interval ends there. The same state and build again changes
    nothing. A time before the beginning of the last interval is taken as that beginning."""
    if not ledger:
        return [Interval(at, OPEN_END, state, build, reason)]
    *before, last = ledger
    if (last.state, last.build) == (state, build):
        return list(ledger)
    at = max(at, last.begin)
    closed = [replace(last, end=at)] if at > last.begin else []
    return [*before, *closed, Interval(at, OPEN_END, state, build, reason)]


def by_day(begin: datetime, end: datetime) -> list[tuple[date, int]]:
    """The days (UTC) that a span touches, each with the microseconds of it that lie in that day."""
    found = []
    while begin < end:
        night = datetime.combine(begin.date() + timedelta(days=1), time(), UTC)
        found.append((begin.date(), (min(end, night) - begin) // timedelta(microseconds=1)))
        begin = night
    return found


def whole_days(begin: datetime, end: datetime) -> tuple[datetime, datetime]:
    """The whole days (UTC) within a span; both the same time when there is none."""
    first = datetime.combine((begin - timedelta(microseconds=1)).date() + timedelta(days=1), time(), UTC)
    last = datetime.combine(end.date(), time(), UTC)
    return (first, last) if first < last else (end, end)


def faults(ledger: Sequence[Interval]) -> list[str]:
    """What is wrong with a ledger: each gap, overlap or empty interval in words; empty when nothing is."""
    wrong = [f"empty interval at {i.begin}" for i in ledger if i.end <= i.begin]
    for a, b in itertools.pairwise(ledger):
        if a.end != b.begin:
            wrong.append(f"{'gap' if a.end < b.begin else 'overlap'} between {a.end} and {b.begin}")
    return wrong


@dataclass(frozen=True)
class Usage:
    """One row of a utilisation report. `seconds` maps each state to its shop seconds."""

    name: str
    seconds: Mapping[MachineState, float]
    good: int = 0
    scrap: int = 0
    unjudged: int = 0
    grams: float = 0.0
    machines: int = field(default=1)

    @property
    def total_s(self) -> float:
        return sum(self.seconds.values())

    @property
    def printing_s(self) -> float:
        """Seconds warming and building."""
        return sum(self.seconds.get(state, 0.0) for state in PRODUCTIVE)

    @property
    def utilisation(self) -> float:
        """Printing time as a share of all recorded time, 0 to 1 (ISO 22400-2: utilization efficiency, with all
        recorded time as the busy time's frame)."""
        return self.printing_s / self.total_s if self.total_s else 0.0


def usage(name: str, microseconds: Mapping[MachineState, int], made: Mapping[str, tuple[int, float]]) -> Usage:
    """A row from the time in each state, and from builds and their grams by verdict (empty: not judged yet)."""
    seconds = {state: microseconds.get(state, 0) / 1e6 for state in MachineState}
    counts = {verdict: made.get(verdict, (0, 0.0))[0] for verdict in ("good", "scrap", "")}
    grams = sum(grams for _, grams in made.values())
    return Usage(name, seconds, counts["good"], counts["scrap"], counts[""], grams)


def total(name: str, rows: Sequence[Usage]) -> Usage:
    """The fleet's row: the sum of the machines'."""
    return Usage(
        name,
        {state: sum(r.seconds[state] for r in rows) for state in MachineState},
        sum(r.good for r in rows),
        sum(r.scrap for r in rows),
        sum(r.unjudged for r in rows),
        sum(r.grams for r in rows),
        len(rows),
    )
