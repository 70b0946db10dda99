"""Proof that a machine's ledger is whole: its intervals cover all time, each build lies within its own, days add up to
what the intervals say, and each gram and Wh of a build is counted once."""

from __future__ import annotations

import itertools
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from chronarch.core.ledger.intervals import OPEN_END, Interval, by_day
from chronarch.core.machines.states import MachineState

SHIFTED = timedelta(seconds=1)
"""A build may begin and end beside its intervals by so much: what a machine tells late is written where there is
room."""
AT_WORK = (MachineState.WARMING, MachineState.BUILDING, MachineState.PAUSED)
ROUNDING_G = 1e-6
DayState = tuple[date, str]


@dataclass(frozen=True)
class LedgerFault:
    """Something that a ledger has wrong, and when it happened, if that can be said."""

    text: str
    at: datetime | None = None


@dataclass(frozen=True)
class RecordedBuild:
    """A build of the machine as its own row has it: when it began and ended (None while it goes on), and its grams."""

    number: int
    began: datetime | None
    ended: datetime | None
    grams: float = 0.0


def cover_faults(ledger: Sequence[Interval]) -> list[LedgerFault]:
    """Where intervals, in their order, leave time out or count it twice; and what does not end as it should."""
    found = [LedgerFault("an interval has no length", i.begin) for i in ledger if i.end <= i.begin]
    for a, b in itertools.pairwise(ledger):
        if a.end == OPEN_END:
            found.append(LedgerFault("an interval that lasts is followed by another", b.begin))
        elif a.end != b.begin:
            what = "no interval covers the time" if a.end < b.begin else "two intervals cover the time"
            found.append(
                LedgerFault(f"{what} from {min(a.end, b.begin)} to {max(a.end, b.begin)}", min(a.end, b.begin))
            )
    if ledger and ledger[-1].end != OPEN_END:
        found.append(LedgerFault("no interval lasts until now", ledger[-1].end))
    return found


def build_faults(
    ledger: Sequence[Interval], builds: Iterable[RecordedBuild], rolled_to: datetime | None = None
) -> list[LedgerFault]:  # fmt: skip
    """Where builds and the intervals that name them say two things. Of builds that began before `rolled_to` intervals
    need not tell: they are rolled up into days."""
    named: dict[int, list[Interval]] = {}
    for interval in ledger:
        if interval.build is not None:
            named.setdefault(interval.build, []).append(interval)
    found = []
    for build in builds:
        mine = named.pop(build.number, [])
        if build.began is None:
            if mine:
                found.append(LedgerFault(f"build {build.number} never began, but an interval names it", mine[0].begin))
        elif rolled_to is not None and build.began < rolled_to:
            continue
        elif not mine:
            found.append(LedgerFault(f"no interval names build {build.number}", build.began))
        else:
            found += _beside(build, mine)
    found += [
        LedgerFault(f"an interval names build {number}, which is not of this machine", mine[0].begin)
        for number, mine in named.items()
    ]
    return found


def _beside(build: RecordedBuild, mine: Sequence[Interval]) -> list[LedgerFault]:
    assert build.began is not None
    found = []
    if abs(mine[0].begin - build.began) > SHIFTED:
        text = f"build {build.number} began at {build.began}, its first interval at {mine[0].begin}"
        found.append(LedgerFault(text, build.began))
    at_work = [i for i in mine if i.state in AT_WORK]
    if build.ended is not None and at_work and abs(at_work[-1].end - build.ended) > SHIFTED:
        text = f"build {build.number} ended at {build.ended}, the machine was at work on it until {at_work[-1].end}"
        found.append(LedgerFault(text, build.ended))
    for a, b in itertools.pairwise(mine):
        if a.end != b.begin:
            text = f"the intervals of build {build.number} do not follow one another"
            found.append(LedgerFault(text, a.end))
    return found


def day_faults(ledger: Iterable[Interval], days: Mapping[DayState, int]) -> list[LedgerFault]:
    """Where the sums of days (microseconds by day and state) are not those of the intervals that have ended."""
    sums: Counter[DayState] = Counter()
    for interval in ledger:
        if interval.end != OPEN_END:
            for day, microseconds in by_day(interval.begin, interval.end):
                sums[day, str(interval.state)] += microseconds
    return _unequal(days, sums, "%Y-%m-%d", "the intervals have")


def month_faults(days: Mapping[DayState, int], months: Mapping[DayState, int]) -> list[LedgerFault]:
    """Where the sums of months (microseconds by first day and state) are not those of their days."""
    sums: Counter[DayState] = Counter()
    for (day, state), microseconds in days.items():
        sums[day.replace(day=1), state] += microseconds
    return _unequal(months, sums, "%Y-%m", "its days have")


def _unequal(said: Mapping[DayState, int], sums: Mapping[DayState, int], named: str, source: str) -> list[LedgerFault]:
    return [
        LedgerFault(
            f"{day:{named}}: {said.get((day, state), 0) / 1e6:.3f} s {state} are added up, {source} "
            f"{sums.get((day, state), 0) / 1e6:.3f} s; `chronarch ledger rebuild` adds them up anew"
        )
        for day, state in sorted(sums.keys() | said.keys())
        if sums.get((day, state), 0) != said.get((day, state), 0)
    ]


def gram_faults(builds: Iterable[RecordedBuild], taken: Mapping[int, float]) -> list[LedgerFault]:
    """Where more was taken from spools for a build (grams, by its number) than it laid. Less may be: a tool without a
    spool, or one that was taken to hold less."""
    return [
        LedgerFault(
            f"build {build.number} laid {build.grams:.3f} g, but {taken[build.number]:.3f} g were taken", build.ended
        )
        for build in builds
        if taken.get(build.number, 0.0) > build.grams + ROUNDING_G
    ]  # fmt: skip


def energy_faults(
    builds: Iterable[RecordedBuild], drawn: Iterable[tuple[int, date, float]]
) -> list[LedgerFault]:  # fmt: skip
    """Where Wh (by build, on a day) are counted for a build that is not of this machine or had not begun, or are less
    than nothing."""
    began = {build.number: build.began for build in builds}
    found = []
    for number, day, wh in drawn:
        if wh < 0:
            found.append(LedgerFault(f"{wh:.1f} Wh are counted on {day}"))
        if number and number not in began:
            found.append(
                LedgerFault(f"{wh:.1f} Wh of {day} are counted for build {number}, which is not of this machine")
            )
        elif number and (first := began[number]) is not None and day < first.date() - timedelta(days=1):
            found.append(LedgerFault(f"{wh:.1f} Wh of {day} are counted for build {number}, which began later", first))
    return found
