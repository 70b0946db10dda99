"""Wear parts: which are on which machine since when, and how long those before lasted."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.upkeep.odometer import Odometer
from chronarch.core.upkeep.wear import Life
from chronarch.records.upkeep.odometers import TaskMark
from chronarch.records.upkeep.tables import UpkeepDone


@dataclass
class PartHere:
    """One kind of part at one machine: the one on it counts from `since`; `fitted` is None where it was there before
    the records begin. `lives` are those before it whose beginning is known."""

    since: datetime
    odometer: Odometer
    fitted: datetime | None = None
    lives: list[Life] = field(default_factory=list)


async def parts_here(db: AsyncSession, marks: list[TaskMark]) -> dict[tuple[int, str], PartHere]:
    """By machine and part: those that were ever replaced there, and those that a task replaces."""
    found: dict[tuple[int, str], PartHere] = {}
    query = select(UpkeepDone).where(UpkeepDone.part != "").order_by(UpkeepDone.at, UpkeepDone.id)
    for row in (await db.execute(query)).scalars():
        key, odometer = (row.machine_id, row.part), Odometer(**row.odometer)
        before = found.get(key)
        lives = before.lives if before else []
        if before is not None:
            lives.append(Life(odometer.since(before.odometer).hours, row.worn))
        found[key] = PartHere(row.at, odometer, row.at, lives)
    for mark in marks:
        if mark.task.part:
            found.setdefault((mark.machine, mark.task.part), PartHere(mark.since, mark.odometer))
    return found


def lives_of_models(
    here: dict[tuple[int, str], PartHere], models: dict[int, str], now: dict[int, Odometer]
) -> dict[tuple[str, str], list[Life]]:
    """All lives of a part on machines of a model; those that are still on count as cut short."""
    found: dict[tuple[str, str], list[Life]] = defaultdict(list)
    for (machine, part), one in here.items():
        lives = found[models[machine], part]
        lives += one.lives
        if one.fitted is not None:
            lives.append(Life(now[machine].since(one.odometer).hours, worn=False))
    return found
