"""The log of machines: what was done, and faults."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy import Subquery, func, literal, null, select, text, union_all
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.ledger.intervals import OPEN_END
from chronarch.core.machines.states import MachineState
from chronarch.core.upkeep.faults_after import DoneOnce
from chronarch.records.ledger.tables import Ledger
from chronarch.records.upkeep.tables import UpkeepDone, UpkeepTask

LAST = 100
"""So many times of each task are looked at for lateness."""


def log_of(machine: int | None) -> Subquery:
    """What was done (kind 1): at a machine, with its faults (kind 0), or at all, without."""
    done = select(
        UpkeepDone.at.label("at"), literal(1).label("kind"), UpkeepDone.id.label("id"),
        UpkeepDone.machine_id.label("machine_id"), literal("").label("reason"), null().label("lasted_min"),
    )  # fmt: skip
    if machine is None:
        return done.subquery()
    lasted = func.timestampdiff(text("second"), Ledger.begin_at, Ledger.end_at) / 60
    faults: Any = select(
        Ledger.begin_at, literal(0), Ledger.id, Ledger.machine_id, Ledger.reason,
        func.if_(Ledger.end_at == OPEN_END, None, lasted),
    ).where(Ledger.machine_id == machine, Ledger.state == MachineState.DOWN)  # fmt: skip
    return union_all(done.where(UpkeepDone.machine_id == machine), faults).subquery()


async def done_of_tasks(db: AsyncSession) -> list[tuple[UpkeepTask, list[DoneOnce]]]:
    """The last times that each task was done, with when the machine went down before that."""
    newest = func.row_number().over(partition_by=UpkeepDone.task_id, order_by=UpkeepDone.at.desc())
    ranked = select(UpkeepDone.id, newest.label("place")).where(UpkeepDone.late.is_not(None)).subquery()
    query = (
        select(UpkeepTask, UpkeepDone)
        .join(UpkeepDone, UpkeepDone.task_id == UpkeepTask.id)
        .join(ranked, ranked.c.id == UpkeepDone.id)
        .where(ranked.c.place <= LAST, UpkeepTask.dropped_at.is_(None))
        .order_by(UpkeepTask.name, UpkeepTask.id)
    )
    rows = (await db.execute(query)).all()
    down = await _down(db, [row.id for _, row in rows])
    found: list[tuple[UpkeepTask, list[DoneOnce]]] = []
    for task, row in rows:
        if not found or found[-1][0] is not task:
            found.append((task, []))
        if row.since_at is not None and row.late is not None:
            found[-1][1].append(DoneOnce(row.since_at, row.at, row.late, down.get(row.id, ())))
    return found


async def _down(db: AsyncSession, done: Sequence[int]) -> dict[int, list[Any]]:
    """When the machine went down since a task was done before, by what was done."""
    query = (
        select(UpkeepDone.id, Ledger.begin_at)
        .join(Ledger, Ledger.machine_id == UpkeepDone.machine_id)
        .where(
            UpkeepDone.id.in_(done), Ledger.state == MachineState.DOWN,
            Ledger.begin_at >= UpkeepDone.since_at, Ledger.begin_at < UpkeepDone.at,
            Ledger.end_at > UpkeepDone.since_at,
        )
    )  # fmt: skip
    found: dict[int, list[Any]] = {}
    for number, at in await db.execute(query):
        found.setdefault(number, []).append(at)
    return found
