"""The work of a recorded time: which builds ran when, for which jobs, and since when they could have."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.machines.states import Outcome
from chronarch.core.orders.states import Verdict
from chronarch.records.base import UtcTime
from chronarch.records.orders.tables import Build, Job, Order


@dataclass(frozen=True)
class RecordedBuild:
    """`released`: when its job could begin."""

    number: int
    job: int
    copy: int
    machine: int
    file: int
    started: datetime
    ended: datetime | None
    cleared: datetime | None
    took_s: int | None
    completed: bool
    scrap: bool
    released: datetime
    due: datetime | None
    priority: int


async def count_builds(db: AsyncSession, begin: datetime, end: datetime) -> int:
    within = Build.started_at >= begin, Build.started_at < end
    return (await db.execute(select(func.count()).where(*within))).scalar_one()


async def recorded_builds(db: AsyncSession, begin: datetime, end: datetime) -> Sequence[RecordedBuild]:
    """The builds that began in begin..end, the earliest first."""
    due = func.coalesce(Job.due_at, Order.due_at)
    free = func.greatest(func.coalesce(Job.not_before, Job.created_at), Job.created_at, type_=UtcTime)
    scrap = func.coalesce(Build.verdict == Verdict.SCRAP, False)
    query = (
        select(
            Build.id, Build.job_id, Build.copy_number, Build.machine_id, Build.file_id, Build.started_at,
            Build.ended_at, Build.cleared_at, Build.took_s, Build.outcome == Outcome.COMPLETED, scrap, free, due,
            Job.priority,
        )
        .join(Job, Job.id == Build.job_id)
        .outerjoin(Order, Order.id == Job.order_id)
        .where(Build.started_at >= begin, Build.started_at < end)
        .order_by(Build.started_at)
    )  # fmt: skip
    rows: Sequence[Any] = (await db.execute(query)).all()
    return [RecordedBuild(*row) for row in rows]
