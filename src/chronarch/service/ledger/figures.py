"""Gathers what figures are worked out from, by what is asked: machines, the calendar, what was built."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.calendar import Labels, TimePart, TimeSpans, cut, time_spent, times_begun
from chronarch.core.ledger.measures import MIDDLE_MIN, STATES, Basis
from chronarch.core.ledger.turnaround import gaps
from chronarch.core.machines.states import MachineState
from chronarch.records.ledger import figures, intervals
from chronarch.service.machines.fleet import FleetMachine
from chronarch.service.machines.machine_groups import MACHINE_PARTS
from chronarch.service.planning.settings import PlanningSettings

Key = tuple[str, ...]
Sums = dict[str, float]
BEFORE = timedelta(days=7)
"""How long before the time that is asked for the build began, at the earliest, whose end begins its first gap."""
DOWN = STATES.index(MachineState.DOWN)

TIME_PARTS: frozenset[str] = frozenset(TimePart)


@dataclass
class Gathered:
    """Sums by key, and from when to when the spans of each key reach, as microseconds since 1970."""

    sums: dict[Key, Sums] = field(default_factory=lambda: defaultdict(lambda: defaultdict(float)))
    reach: dict[Key, tuple[int, int]] = field(default_factory=dict)
    waits: dict[Key, list[Any]] = field(default_factory=lambda: defaultdict(list))
    """The gaps of a key, in minutes, some at a time."""


class Gathering:
    """One question about machines: by what, from which sources, of which builds."""

    def __init__(
        self, by: Sequence[str], machines: Sequence[FleetMachine], settings: PlanningSettings,
        sources: Iterable[Basis], counts: Iterable[str], where: Sequence[Any] = (),
    ) -> None:  # fmt: skip
        self.by, self.settings, self.where = by, settings, where
        self.sources, self.counts = set(sources), set(counts)
        self.calendar = [TimePart(part) for part in by if part in TIME_PARTS]
        self.of_builds = [part for part in by if part in figures.BUILD_PARTS or part == figures.STOP_REASON]
        self.machines = {m.row.id: m for m in machines}
        self._spent: dict[tuple[int, datetime, datetime], intervals.TimeInStates] = {}

    def whole(self) -> Gathering:
        """The same question without parts. What machines' time was is read once for both."""
        found = Gathering((), list(self.machines.values()), self.settings, self.sources, self.counts, self.where)
        found._spent = self._spent
        return found

    async def between(self, db: AsyncSession, begin: datetime, end: datetime, now: datetime) -> Gathered:
        """What was counted in begin..end."""
        found = Gathered()
        sites: dict[str, list[int]] = defaultdict(list)
        for number, machine in self.machines.items():
            sites[machine.row.site].append(number)
        for site, numbers in sites.items():
            await self._of_site(db, found, site, numbers, begin, end, now)
        for key, minutes in found.waits.items():
            found.sums[key][MIDDLE_MIN] = float(np.median(np.concatenate(minutes)))
        return found

    async def _of_site(
        self, db: AsyncSession, found: Gathered, site: str, numbers: list[int], begin: datetime, end: datetime,
        now: datetime,
    ) -> None:  # fmt: skip
        spans = cut(begin, end, self.calendar, self.settings.core(site))
        if self.sources & {Basis.TIME, Basis.BOTH} and begin < now:
            await self._time(db, found, numbers, spans, begin, min(end, now))
        if self.sources & {Basis.BUILDS, Basis.BOTH}:
            await self._builds(db, found, numbers, spans)
        if Basis.STOPS in self.sources:
            by_reason = figures.STOP_REASON in self.by
            for number, label, why, sums in await figures.stopped(db, numbers, spans, by_reason, now):
                self._add(found, number, label, why, sums)
        if Basis.GAPS in self.sources:
            await self._gaps(db, found, numbers, spans, begin, end, now)
        reach = _reach(spans)
        at = [n for n, part in enumerate(self.by) if part in TIME_PARTS]
        for key in found.sums:
            if (there := reach.get(tuple(key[n] for n in at))) is not None:
                before = found.reach.get(key, there)
                found.reach[key] = min(there[0], before[0]), max(there[1], before[1])

    async def _time(
        self, db: AsyncSession, found: Gathered, numbers: list[int], spans: TimeSpans, begin: datetime, until: datetime
    ) -> None:
        if not self.calendar and "downs" not in self.counts:
            read = numbers[0], begin, until
            if read not in self._spent:
                self._spent[read] = await intervals.time_in_states(db, numbers, begin, until)
            for number, states in self._spent[read].items():
                self._add(found, number, (), (), {state: spent / 1e6 for state, spent in states.items()})
            return
        for number, changes in (await figures.changes(db, numbers, begin, until)).items():
            spent = time_spent(changes, spans.edges, len(STATES)) / 1e6
            downs = times_begun(changes, spans.edges, DOWN)
            for label, rows in _by_label(spans.labels).items():
                sums = dict(zip(STATES, spent[rows].sum(axis=0).tolist(), strict=True))
                self._add(found, number, label, (), {**sums, "downs": float(downs[rows].sum())})

    async def _builds(self, db: AsyncSession, found: Gathered, numbers: list[int], spans: TimeSpans) -> None:
        counted = await figures.built(db, numbers, spans, self.of_builds, self.where, self.counts)
        if "wh" in self.counts:
            counted += await figures.drawn(db, numbers, spans, self.of_builds, self.where)
        clear_min = self.settings.planning.clear_min
        for number, label, of_builds, sums in counted:
            if "by_hand" in sums:
                sums["hand_min"] = sums["by_hand"] * clear_min
            self._add(found, number, label, of_builds, sums)

    async def _gaps(
        self, db: AsyncSession, found: Gathered, numbers: list[int], spans: TimeSpans, begin: datetime, end: datetime,
        now: datetime,
    ) -> None:  # fmt: skip
        ran = await intervals.builds_that_ran(db, begin - BEFORE, end, now)
        waits = gaps(ran[np.isin(ran[:, 0], numbers)], ())
        place = np.searchsorted(spans.edges, waits.begin, side="right") - 1
        inside = (place >= 0) & (place < len(spans.labels))
        kinds = {label: n for n, label in enumerate(dict.fromkeys(spans.labels))}
        kind = np.array([kinds[label] for label in spans.labels], np.int64)[np.clip(place, 0, len(spans.labels) - 1)]
        for number in np.unique(waits.machine[inside]).tolist():
            for label, n in kinds.items():
                minutes = waits.minutes[inside & (waits.machine == number) & (kind == n)]
                if len(minutes):
                    for key in self._keys(number, label, ()):
                        found.sums[key]["gaps"] += len(minutes)
                        found.waits[key].append(minutes)

    def _add(self, found: Gathered, number: int, label: Labels, of_builds: Labels, sums: Mapping[str, float]) -> None:
        for key in self._keys(number, label, of_builds):
            into = found.sums[key]
            for name, amount in sums.items():
                into[name] += amount

    def _keys(self, number: int, label: Labels, of_builds: Labels) -> Iterable[Key]:
        """The keys that something counts for."""
        given: dict[str, str] = dict(zip([*self.calendar, *self.of_builds], [*label, *of_builds], strict=True))
        machine = self.machines[number]
        return itertools.product(
            *(MACHINE_PARTS[part](machine) if part in MACHINE_PARTS else [given[part]] for part in self.by)
        )


def _reach(spans: TimeSpans) -> dict[Labels, tuple[int, int]]:
    """From when to when the spans of the same labels reach."""
    ends = spans.edges.tolist()
    found: dict[Labels, tuple[int, int]] = {}
    for labels, first, last in zip(spans.labels, ends, ends[1:], strict=False):
        found[labels] = found.get(labels, (first, last))[0], last
    return found


def _by_label(labels: Sequence[Labels]) -> dict[Labels, list[int]]:
    found: dict[Labels, list[int]] = defaultdict(list)
    for n, label in enumerate(labels):
        found[label].append(n)
    return found
