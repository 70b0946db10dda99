"""Knows how near all upkeep is to being due, and tells each machine what its upkeep asks for."""

from __future__ import annotations

import asyncio
import logging
from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Annotated

from sqlalchemy import func, select
from sqlalchemy.exc import SQLAlchemyError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.materials import Materials
from chronarch.core.machines.upkeep_calls import Blocks, UpkeepCall
from chronarch.core.upkeep.calibration import CalibrationVerdict, judge
from chronarch.core.upkeep.due import Use, days_left, standing
from chronarch.core.upkeep.odometer import Odometer
from chronarch.records import tables as t
from chronarch.records.machines.materials import load_materials
from chronarch.records.upkeep.odometers import TaskMark, marks, odometers
from chronarch.service.background import Background
from chronarch.service.context import ServiceContext, part
from chronarch.service.machines.fleet import Fleet
from chronarch.service.upkeep.measuring import OwnChecks
from chronarch.service.upkeep.standing import Standing, rules_of, use_of

LOOK_EVERY_S = 10.0
AT_MOST_SHARE = 0.05
"""The share of the time that looking may take: where it takes long, it is done less often."""
PACE_OVER = timedelta(days=14)
"""From so much of the past is said how soon something will be due."""
READINGS = 30
"""So many of a check's last values are looked at."""
log = logging.getLogger("chronarch.upkeep")


@dataclass
class UpkeepKeeper:
    """`standings` are as of the last look."""

    context: ServiceContext
    fleet: Fleet
    background: Background
    checks: OwnChecks
    standings: list[Standing] = field(default_factory=list)
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)
    """Held while it is found out, or changed, from where tasks count."""
    _next_s: float = 0.0

    async def look(self) -> None:
        """Look again, unless the last look took so long that it is too early. This is the step of one worker."""
        if self.context.clock.monotonic_s() >= self._next_s:
            await self.refresh()

    async def refresh(self) -> None:
        """Look at everything now, and tell the machines. Checks that the machines make themselves come first."""
        async with self.lock:
            await self.checks.measure(self.standings)
            machines, now = [known.row.id for known in self.fleet.all()], self.context.clock.now()
            began_s = self.context.clock.monotonic_s()
            self.standings = await self.background.run(lambda db: standings(db, machines, now))
            ended_s = self.context.clock.monotonic_s()
            self._next_s = ended_s + (ended_s - began_s) / AT_MOST_SHARE
        asks: dict[int, list[UpkeepCall]] = defaultdict(list)
        for one in self.standings:
            if call := one.call:
                asks[one.mark.machine].append(call)
        other = False
        for known in self.fleet.all():
            calls = tuple(asks[known.row.id])
            if calls != known.upkeep:
                other |= _acts(calls) != _acts(known.upkeep)  # else only what was used has grown
                known.upkeep = calls
                self.fleet.publish(known)
        if other:
            self.fleet.version += 1
            self.context.changes.wake("machines")

    async def catch_up(self) -> None:
        """Look at everything after something has been written. Where that cannot be done now, it is soon."""
        try:
            await self.refresh()
        except (SQLAlchemyError, OSError) as error:
            log.warning("upkeep is looked at again soon: %s", str(error).splitlines()[0])
            self._next_s = 0.0


def _acts(calls: Sequence[UpkeepCall]) -> list[tuple[int, Blocks]]:
    return [(call.task, call.blocks) for call in calls]


TheUpkeepKeeper = Annotated[UpkeepKeeper, part(UpkeepKeeper)]


async def standings(db: AsyncSession, machines: Sequence[int], now: datetime) -> list[Standing]:
    """All tasks at all machines."""
    known = set(machines)
    found = [mark for mark in await marks(db) if mark.machine in known]
    await db.commit()
    if not found:
        return []
    here = sorted({mark.machine for mark in found})
    whole = await odometers(db, here, now)
    recent = await odometers(db, here, now, now - PACE_OVER)
    materials = await load_materials(db)
    values = await last_values(db, {mark.task.id for mark in found if mark.task.nominal is not None})
    return [_standing(mark, whole[mark.machine], recent[mark.machine], values, materials, now) for mark in found]


def _standing(
    mark: TaskMark, whole: Odometer, recent: Odometer, values: dict[tuple[int, int], list[t.UpkeepDone]],
    materials: Materials, now: datetime,
) -> Standing:  # fmt: skip
    rules, days = rules_of(mark.task), PACE_OVER / timedelta(days=1)
    use = use_of(mark, whole, now, materials)
    a_day = Use(recent.hours / days, recent.builds / days, recent.metres(materials) / days, 1.0)
    out = ""
    task, rows = mark.task, values.get((mark.task.id, mark.machine), [])
    if rows and task.nominal is not None and task.tolerance is not None:
        found = judge([row.value or 0.0 for row in rows], task.nominal, task.tolerance, task.unit)
        out = f"out of tolerance: {found.text}" if found.verdict is CalibrationVerdict.OUT else ""
    return Standing(mark, use, standing(rules, use), days_left(rules, use, a_day), out)


async def last_values(db: AsyncSession, tasks: Collection[int]) -> dict[tuple[int, int], list[t.UpkeepDone]]:
    """The last values of checks, oldest first, by task and machine."""
    done = t.UpkeepDone
    order = done.at.desc(), done.id.desc()
    newest = func.row_number().over(partition_by=(done.task_id, done.machine_id), order_by=order)
    ranked = select(done.id, newest.label("place")).where(done.task_id.in_(tasks), done.value.is_not(None)).subquery()
    query = select(done).join(ranked, ranked.c.id == done.id).where(ranked.c.place <= READINGS)
    found: dict[tuple[int, int], list[t.UpkeepDone]] = defaultdict(list)
    for row in (await db.execute(query.order_by(done.at, done.id))).scalars():
        found[row.task_id or 0, row.machine_id].append(row)
    return found
