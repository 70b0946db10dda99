"""Looks through the records for what has changed beyond chance: once a night, and when asked."""

from __future__ import annotations

import asyncio
from collections import defaultdict
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Annotated, Any

import numpy as np
from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.change_point_kinds import CHANGE_POINTS, ChangePointKind, sentence
from chronarch.core.ledger.change_points import RATE, ChangePoint, Floats, Series, look, named
from chronarch.core.ledger.turnaround import EPOCH, Times, gaps
from chronarch.core.notices.kinds import NoticeKind
from chronarch.records import tables as t
from chronarch.records.ledger.intervals import builds_that_ran
from chronarch.records.ledger.observations import Observations, observed
from chronarch.records.notices.opening import close_notice, open_notice
from chronarch.service.background import Background
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet
from chronarch.service.planning.settings import load_settings
from chronarch.service.workers import LongWork

LOOK_EVERY_S = 20.0
REACH = timedelta(days=90)
"""How far back is looked."""
AT_HOUR = 3
"""By the shop's clock."""
KEPT_PASSES = timedelta(days=400)
FEWEST_OF_FILE = 5
"""Builds of a file, or on a machine, from which is said what is to be expected of it."""
DAY_US = 86_400_000_000
Subject = tuple[ChangePointKind, str]


@dataclass
class ChangeFinder:
    """`last`: up to when was looked; None while that is not known."""

    context: ServiceContext
    fleet: Fleet
    background: Background
    last: datetime | None = None
    _lock: asyncio.Lock = field(default_factory=asyncio.Lock)
    _work: LongWork = field(default_factory=LongWork)

    async def look(self) -> None:
        """Look when a night has come since the last time. This is the step of one worker."""
        if self._work.busy():
            return
        async with self.context.sessions() as db:
            if self.last is None:
                query = select(t.ChangePointPass.at).order_by(t.ChangePointPass.id.desc()).limit(1)
                self.last = (await db.execute(query)).scalar() or self.context.clock.now()
            zone = (await load_settings(db)).zone()
        there = self.context.clock.now().astimezone(zone)
        night = there.replace(hour=AT_HOUR, minute=0, second=0, microsecond=0)
        if self.last < (night if night <= there else night - timedelta(days=1)):
            self._work.begin(self.run())

    async def run(self) -> None:
        """Look now. One pass at a time."""
        async with self._lock:
            now = self.context.clock.now()
            begin = now - REACH
            sites = {known.row.id: known.row.site for known in self.fleet.all()}
            about = {known.row.id: (known.row.name, known.model.name) for known in self.fleet.all()}
            found = await self.background.run(lambda db: _look_through(db, begin, now, about, sites))
            async with self.context.sessions() as db:
                await self._write(db, found, begin, now)
                await db.commit()
            self.last = now

    async def _write(self, db: AsyncSession, looked: LookedThrough, begin: datetime, now: datetime) -> None:
        rows = (await db.execute(select(t.ChangePoint).where(t.ChangePoint.over_at.is_(None)))).scalars()
        open_now = {(ChangePointKind(row.kind), row.subject): row for row in rows}
        for what, row in open_now.items():
            change = looked.named.get(what)
            if change is None or (change.size > 0) != (row.size > 0):
                row.over_at = now
                await close_notice(db, NoticeKind.WORTH_A_LOOK, row.id, now)
        for (kind, subject), change in looked.named.items():
            known = open_now.get((kind, subject))
            row = known if known and known.over_at is None else t.ChangePoint(kind=kind, subject=subject, found_at=now)
            db.add(row)
            for name, value in _columns(change).items():
                setattr(row, name, value)
            await db.flush()
            if row.seen_at is None:
                text = f"{sentence(kind, subject, change.before, change.after)}, since {row.since:%d %b}"
                await open_notice(db, NoticeKind.WORTH_A_LOOK, now, text, subject=row.id)
        await db.execute(delete(t.ChangePointPass).where(t.ChangePointPass.at < now - KEPT_PASSES))
        db.add(t.ChangePointPass(at=now, begin_at=begin, series=looked.series, named=len(looked.named)))


TheChangeFinder = Annotated[ChangeFinder, part(ChangeFinder)]


@dataclass(frozen=True)
class LookedThrough:
    """How many series were looked at, and what was named."""

    series: int
    named: dict[Subject, ChangePoint]


def _columns(change: ChangePoint) -> dict[str, Any]:
    figures = {name: getattr(change, name) for name in ("before", "after", "size", "low", "high", "chance")}
    counts = {"counted_before": change.counted_before, "counted_after": change.counted_after}
    return {**figures, **counts, "since": EPOCH + timedelta(microseconds=change.since)}


async def _look_through(
    db: AsyncSession, begin: datetime, now: datetime, about: Mapping[int, tuple[str, str]], sites: Mapping[int, str]
) -> LookedThrough:
    builds = await observed(db, begin, now)
    settings = await load_settings(db)
    ran = await builds_that_ran(db, begin, now, now)
    found = dict(_of_builds(builds, about))
    for site in sorted(set(sites.values())):
        machines = [number for number, its in sites.items() if its == site]
        waits = gaps(ran[np.isin(ran[:, 0], machines)], settings.core(site).spans(begin, now))
        waits = waits.only(waits.staffed & (waits.minutes > 0))
        order = np.argsort(waits.begin, kind="stable")
        logs = np.log(waits.minutes[order])
        found[ChangePointKind.TURNAROUND, site] = _by_day(Series(waits.begin[order], logs, np.zeros(len(logs)), False))
    smallest = RATE / max(1, len(found)) / 2
    changes: dict[Subject, ChangePoint] = {}
    for subject, series in found.items():
        change = look(series, seed=len(changes), smallest=smallest)
        if change is not None:
            changes[subject] = change
        await asyncio.sleep(0)
    passed = named([change.chance for change in changes.values()])
    return LookedThrough(
        len(changes),
        {
            subject: change
            for (subject, change), so in zip(changes.items(), passed, strict=True)
            if so and abs(change.size) >= CHANGE_POINTS[subject[0]].least
        },
    )


def _of_builds(b: Observations, about: Mapping[int, tuple[str, str]]) -> Iterable[tuple[Subject, Series]]:
    """The series of all that builds tell."""
    judged, ran = b.verdict >= 0, (b.took_s > 0) & (b.planned_s > 0)
    good = b.verdict.astype(np.float64)
    beside_files = _expected(b.file, 1 - good, judged, np.mean)
    beside_machines = _expected(b.machine, good, judged, np.mean)
    pace = _logs(b.took_s, ran) - _logs(b.planned_s, ran)
    paces = _expected(b.file, pace, ran, np.median)
    metered = b.watts > 0
    watts = _logs(b.watts, metered)
    powers = _expected(b.file, watts, metered, np.median)
    models: dict[str, list[int]] = defaultdict(list)
    for machine, (_, model) in about.items():
        models[model].append(machine)
    for machine, of in _groups(b.machine):
        if machine in about:
            name = about[machine][0]
            yield (ChangePointKind.SCRAP, name), _series(b.at, 1 - good, beside_files, of[judged[of]], share=True)
            yield (ChangePointKind.POWER, name), _series(b.at, watts, powers, of[metered[of]], share=False)
    for model, machines in models.items():
        of = np.flatnonzero(np.isin(b.machine, machines) & ran)
        yield (ChangePointKind.PACE, model), _by_day(_series(b.at, pace, paces, of, share=False))
    for number, of in _groups(b.part):
        if number in b.parts:
            success = _series(b.at, good, beside_machines, of[judged[of]], share=True)
            yield (ChangePointKind.SUCCESS, b.parts[number]), success


def _groups(labels: Times) -> Iterable[tuple[int, Times]]:
    """Each label, and where it stands, in order."""
    order = np.argsort(labels, kind="stable")
    found, first = np.unique(labels[order], return_index=True)
    return zip(found.tolist(), np.split(order, first[1:]), strict=True) if len(found) else ()


def _logs(values: Floats, of: np.ndarray[Any, Any]) -> Floats:
    """Logarithms of some values; 0 for the others."""
    found: Floats = np.log(values, out=np.zeros(len(values)), where=of)
    return found


def _series(at: Times, values: Floats, expected: Floats, of: Times, *, share: bool) -> Series:
    return Series(at[of], values[of], expected[of], share)


def _expected(groups: Times, values: Floats, of: np.ndarray[Any, Any], middle: Callable[[Floats], Any]) -> Floats:
    """The middle of the values of each one's group; that of all for small groups."""
    found = np.full(len(values), float(middle(values[of])) if of.any() else 0.0)
    for _, places in _groups(groups):
        inside = places[of[places]]
        if len(inside) >= FEWEST_OF_FILE:
            found[inside] = middle(values[inside])
    return found


def _by_day(series: Series) -> Series:
    """The same with a day's median as one observation."""
    days, first = np.unique(series.at // DAY_US, return_index=True)
    if not len(days):
        return series
    values = [float(np.median(one)) for one in np.split(series.values, first[1:])]
    beside = [float(np.median(one)) for one in np.split(series.values - series.expected, first[1:])]
    medians = np.array(values)
    return Series(series.at[first], medians, medians - np.array(beside), series.share)
