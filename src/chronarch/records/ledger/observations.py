"""What is looked through for changes: the builds of a time as columns."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from sqlalchemy import case, func, select, text
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.turnaround import EPOCH, Times
from chronarch.core.machines.states import Outcome
from chronarch.core.orders.states import Verdict
from chronarch.records.ledger.tables import Energy
from chronarch.records.library.tables import File, Part
from chronarch.records.orders.tables import Build

COLUMNS = 7


@dataclass(frozen=True)
class Observations:
    """Builds that ended, in the order of their ends, one element each: when (microseconds since 1970), numbers of
    machine, file and part (0: none), the verdict (1 good, 0 scrap, -1 none), seconds that a completed build took and
    was planned for (0 for others), and W that were drawn meanwhile (0 where that is not known). `parts` has the
    names."""

    at: Times
    machine: Times
    file: Times
    part: Times
    verdict: Times
    took_s: np.ndarray[Any, np.dtype[np.float64]]
    planned_s: np.ndarray[Any, np.dtype[np.float64]]
    watts: np.ndarray[Any, np.dtype[np.float64]]
    parts: dict[int, str]


async def observed(db: AsyncSession, begin: datetime, end: datetime) -> Observations:
    """What ended in begin..end. The database hands each machine's builds over as one text, because so many rows would
    take far longer than they are worth."""
    done = Build.outcome == Outcome.COMPLETED
    columns = (
        Build.id,
        func.timestampdiff(text("microsecond"), EPOCH.replace(tzinfo=None), Build.ended_at),
        Build.file_id,
        func.coalesce(File.part_id, 0),
        case((Build.verdict == Verdict.GOOD, 1), (Build.verdict == Verdict.SCRAP, 0), else_=-1),
        case((done, Build.took_s), else_=0),
        case((done, func.round(Build.planned_s, 1)), else_=0),
    )
    query = (
        select(Build.machine_id, func.group_concat(func.concat_ws(",", *columns)))
        .join(File, File.id == Build.file_id)
        .where(Build.ended_at >= begin, Build.ended_at < end)
        .group_by(Build.machine_id)
    )
    found = [np.zeros((0, COLUMNS + 1))]
    for machine, told in await db.execute(query):
        rows = np.array(told.split(","), np.float64).reshape(-1, COLUMNS)
        found.append(np.column_stack([rows, np.full(len(rows), float(machine))]))
    rows = np.concatenate(found)
    rows = rows[np.argsort(rows[:, 1], kind="stable")]
    wh = await _drawn(db, begin)
    took_s = rows[:, 5]
    drawn = np.array([wh.get(int(number), 0.0) for number in rows[:, 0]])
    watts = np.divide(drawn * 3600, took_s, out=np.zeros(len(rows)), where=took_s > 0)
    at, file, part, verdict, machines = (rows[:, n].astype(np.int64) for n in (1, 2, 3, 4, 7))
    names = {number: name for number, name in (await db.execute(select(Part.id, Part.name))).tuples()}
    return Observations(at, machines, file, part, verdict, took_s, rows[:, 6], watts, names)


async def _drawn(db: AsyncSession, begin: datetime) -> dict[int, float]:
    """Wh by build."""
    sums = (
        select(Energy.machine_id, Energy.build_id, func.sum(Energy.wh).label("wh"))
        .where(Energy.day >= begin.date(), Energy.build_id > 0)
        .group_by(Energy.machine_id, Energy.build_id)
        .subquery()
    )
    told = select(func.group_concat(sums.c.build_id, ",", func.round(sums.c.wh, 3))).group_by(sums.c.machine_id)
    found: dict[int, float] = {}
    for one in (await db.execute(told)).scalars():
        pairs = np.array(one.split(","), np.float64).reshape(-1, 2)
        found.update(zip(pairs[:, 0].astype(np.int64).tolist(), pairs[:, 1].tolist(), strict=True))
    return found
