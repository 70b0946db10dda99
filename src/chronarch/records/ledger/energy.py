"""What machines drew: added up by day, state and build."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.dialects.mysql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import MachineState
from chronarch.records.ledger.tables import Energy

GROUPS = ("machine", "day", "state", "build")
MOST_ROWS = 10_000


async def add(
    db: AsyncSession, machine: int, begin: datetime, until: datetime, state: MachineState, build: int | None, wh: float
) -> None:
    """Add what a machine drew; it counts for the day (UTC) on which that began."""
    row = {"machine_id": machine, "day": begin.date(), "state": str(state), "build_id": build or 0}
    new = insert(Energy).values(**row, wh=wh, last_at=until)
    await db.execute(new.on_duplicate_key_update(wh=Energy.wh + new.inserted.wh, last_at=new.inserted.last_at))


async def drawn(
    db: AsyncSession, by: Sequence[str], first: date | None, last: date | None, machine: int | None, build: int | None
) -> Sequence[Any]:
    """Wh of the days `first` to `last`, grouped by some of `GROUPS`: the groups' values, the sum, and until when."""
    columns: dict[str, Any] = {
        "machine": Energy.machine_id, "day": Energy.day, "state": Energy.state, "build": Energy.build_id,
    }  # fmt: skip
    groups = [columns[name] for name in by]
    query = select(*groups, func.sum(Energy.wh), func.max(Energy.last_at)).group_by(*groups).order_by(*groups)
    if first is not None:
        query = query.where(Energy.day >= first)
    if last is not None:
        query = query.where(Energy.day <= last)
    if machine is not None:
        query = query.where(Energy.machine_id == machine)
    if build is not None:
        query = query.where(Energy.build_id == build)
    return (await db.execute(query.limit(MOST_ROWS))).all()
