"""Calibration checks that machines make themselves: their values are taken from what the machines have told."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.bed_mesh import BedMesh
from chronarch.core.upkeep.settling import Heat, settling_s
from chronarch.records import tables as t
from chronarch.service.context import ServiceContext
from chronarch.service.upkeep.standing import Standing
from chronarch.service.upkeep.writing import write_done
from chronarch.wire.upkeep import tasks as w

BY = "the machine"
HEATS_WITHIN = timedelta(minutes=20)
RECENT = timedelta(days=2)
NEWEST = 10
"""So many of a machine's last builds are looked at."""


@dataclass(frozen=True)
class Measured:
    at: datetime
    value: float


@dataclass(frozen=True)
class ValueSource:
    """Where values come from. `newest` says what is the newest that each machine has to look at, by its number; `read`
    makes a value of it, if it has one."""

    newest: Callable[[AsyncSession, datetime], Awaitable[Mapping[int, Any]]]
    read: Callable[[AsyncSession, Standing, datetime], Awaitable[Measured | None]]
    when_due: bool
    """Whether it is looked at only once the check is due."""


@dataclass
class OwnChecks:
    """Looks at each machine's newest once."""

    context: ServiceContext
    _looked: dict[tuple[int, int], Any] = field(default_factory=dict)

    async def measure(self, standings: Iterable[Standing]) -> None:
        """Write down what has been measured since the last value, where a machine makes a check itself."""
        by_source: dict[str, list[Standing]] = {}
        for one in standings:
            if one.mark.task.source in SOURCES:
                by_source.setdefault(one.mark.task.source, []).append(one)
        for name, several in by_source.items():
            source, now = SOURCES[name], self.context.clock.now()
            async with self.context.sessions() as db:
                newest = await source.newest(db, now)
            for one in several:
                key, there = (one.mark.task.id, one.mark.machine), newest.get(one.mark.machine)
                if there is None or self._looked.get(key) == there or (source.when_due and not one.due.due):
                    continue
                self._looked[key] = there
                await self._take(source, one, now)

    async def _take(self, source: ValueSource, one: Standing, now: datetime) -> None:
        async with self.context.sessions() as db:
            found = await source.read(db, one, now)
            if found is None or found.at <= one.mark.since:
                return
            task = await db.get_one(t.UpkeepTask, one.mark.task.id)
            asked = w.NewUpkeepDone(machine="", value=found.value)
            await write_done(db, one.mark.machine, task, asked, found.at, BY)
            await db.commit()


async def _newest_maps(db: AsyncSession, now: datetime) -> Mapping[int, Any]:
    query = select(t.BedMesh.machine_id, func.max(t.BedMesh.at)).group_by(t.BedMesh.machine_id)
    return {machine: at for machine, at in await db.execute(query)}


async def _level_map(db: AsyncSession, one: Standing, now: datetime) -> Measured | None:
    """The range of the newest level map."""
    maps = t.BedMesh
    query = select(maps).where(maps.machine_id == one.mark.machine).order_by(maps.at.desc()).limit(1)
    row = (await db.execute(query)).scalar()
    if row is None:
        return None
    return Measured(row.at, round(BedMesh(tuple(tuple(heights) for heights in row.rows)).range_mm, 4))


async def _newest_builds(db: AsyncSession, now: datetime) -> Mapping[int, Any]:
    """The last build of each machine that began long enough ago to have heated."""
    began = t.Build.started_at.between(now - RECENT, now - HEATS_WITHIN)
    query = select(t.Build.machine_id, func.max(t.Build.id)).where(began).group_by(t.Build.machine_id)
    return {machine: number for machine, number in await db.execute(query)}


async def _heating(db: AsyncSession, one: Standing, now: datetime) -> Measured | None:
    """How long the hot end took at the newest build that began with a cold one."""
    builds, heat = t.Build, t.HeatReading
    recent = select(builds).where(
        builds.machine_id == one.mark.machine, builds.started_at > max(one.mark.since, now - RECENT),
        builds.started_at < now - HEATS_WITHIN,
    )  # fmt: skip
    for build in (await db.execute(recent.order_by(builds.started_at.desc()).limit(NEWEST))).scalars():
        begun = build.started_at or now
        span = heat.at.between(begun - timedelta(minutes=1), begun + HEATS_WITHIN)
        query = select(heat.at, heat.nozzle_c, heat.nozzle_asked_c).where(heat.machine_id == one.mark.machine, span)
        rows = (await db.execute(query.order_by(heat.at))).all()
        took = settling_s(Heat(at, c, asked or 0.0) for at, c, asked in rows if c is not None)
        if took is not None:
            return Measured(begun, round(took, 1))
    return None


SOURCES: dict[str, ValueSource] = {
    "level map": ValueSource(_newest_maps, _level_map, when_due=False),
    "heating": ValueSource(_newest_builds, _heating, when_due=True),
}
