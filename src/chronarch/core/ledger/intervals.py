"""Arithmetic of the ledger: a machine's states as intervals that cover time with no gap and no overlap."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta

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


def append(ledger: Sequence[Interval], at: datetime, state: MachineState, build: int | None = None) -> list[Interval]:
    """The ledger with `state` from `at` on; the last interval ends there. The same state and build again changes
    nothing. A time before the beginning of the last interval is taken as that beginning."""
    if not ledger:
        return [Interval(at, OPEN_END, state, build)]
    *before, last = ledger
    if (last.state, last.build) == (state, build):
        return list(ledger)
    at = max(at, last.begin)
    closed = [Interval(last.begin, at, last.state, last.build)] if at > last.begin else []
    return [*before, *closed, Interval(at, OPEN_END, state, build)]


def clip(ledger: Iterable[Interval], begin: datetime, end: datetime) -> list[Interval]:
    """The parts of the intervals that lie within begin..end."""
    return [
        Interval(max(i.begin, begin), min(i.end, end), i.state, i.build)
        for i in ledger
        if i.begin < end and i.end > begin and max(i.begin, begin) < min(i.end, end)
    ]


def faults(ledger: Sequence[Interval]) -> list[str]:
    """What is wrong with a ledger: each gap, overlap or empty interval in words; empty when nothing is."""
    wrong = [f"empty interval at {i.begin}" for i in ledger if i.end <= i.begin]
    for a, b in itertools.pairwise(ledger):
        if a.end != b.begin:
            wrong.append(f"{'gap' if a.end < b.begin else 'overlap'} between {a.end} and {b.begin}")
    return wrong


@dataclass(frozen=True)
class MadeBuild:
    """What a report needs of one build that ended: its verdict (empty: not judged yet) and its filament."""

    verdict: str
    grams: float


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


def usage(name: str, ledger: Iterable[Interval], builds: Iterable[MadeBuild]) -> Usage:
    """Add up a clipped ledger and the builds that ended in it."""
    seconds = dict.fromkeys(MachineState, 0.0)
    for i in ledger:
        seconds[i.state] += (i.end - i.begin) / timedelta(seconds=1)
    made = list(builds)
    counts = {v: sum(b.verdict == v for b in made) for v in ("good", "scrap", "")}
    return Usage(name, seconds, counts["good"], counts["scrap"], counts[""], sum(b.grams for b in made))


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
