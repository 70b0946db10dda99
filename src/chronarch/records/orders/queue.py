"""The order of the queue."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records.orders.tables import Job, QueueVersion

QUEUE = "queue"


async def last_in_line(db: AsyncSession) -> float:
    """A place after everything that is in the queue."""
    return ((await db.execute(select(func.max(Job.line)))).scalar() or 0.0) + 1.0


class QueueChanged(Exception):
    """Somebody else has changed the queue since it was looked at."""

    def __init__(self, line: QueueVersion) -> None:
        super().__init__(line.text)
        self.line = line


async def line_now(db: AsyncSession, *, lock: bool = False) -> QueueVersion | None:
    return await db.get(QueueVersion, QUEUE, with_for_update=lock)


async def note_change(db: AsyncSession, version: int | None, by: str, text: str, at: datetime) -> QueueVersion:
    """Take the queue for a change that was decided at `version` (None: any version). Raises QueueChanged."""
    row = await line_now(db, lock=True)
    if row is None:
        row = QueueVersion(name=QUEUE, version=0, by="", text="", at=at)
        db.add(row)
        await db.flush()
        row = await db.get_one(QueueVersion, QUEUE, with_for_update=True, populate_existing=True)
    if version is not None and version != row.version:
        raise QueueChanged(row)
    row.version, row.by, row.text, row.at = row.version + 1, by[:120], text[:300], at
    return row


async def move(db: AsyncSession, jobs: Sequence[int], before: int | None) -> None:
    """Move jobs before another one in the queue, or to its end. The queue must be taken already. Raises KeyError for a
    job that is not there."""
    rows = list((await db.execute(select(Job).order_by(Job.line, Job.id).with_for_update())).scalars())
    by_id = {job.id: job for job in rows}
    moving = [by_id[number] for number in jobs]
    if before is not None and before not in by_id:
        raise KeyError(before)
    rest = [job for job in rows if job not in moving]
    at = len(rest) if before is None or by_id[before] in moving else rest.index(by_id[before])
    for place, job in enumerate([*rest[:at], *moving, *rest[at:]], 1):
        if job.line != place:
            job.line = float(place)
