"""Finds tasks and what was done by their numbers."""

from __future__ import annotations

from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.records import tables as t
from chronarch.service.library.content_store import Received
from chronarch.service.problems import ApiProblem


async def find_task(db: AsyncSession, number: int, received: Received | None = None) -> t.UpkeepTask:
    """A task that is not dropped, locked. Raises ApiProblem (404); what was received for it is removed then."""
    row = await db.get(t.UpkeepTask, number, with_for_update=True)
    if row is None or row.dropped_at is not None:
        _remove(received)
        raise ApiProblem(404, f"There is no task {number}; `chronarch upkeep tasks` shows them.")
    return row


async def find_done(db: AsyncSession, number: int, received: Received | None = None) -> t.UpkeepDone:
    row = await db.get(t.UpkeepDone, number, with_for_update=True)
    if row is None:
        _remove(received)
        raise ApiProblem(404, f"Nothing that was done has the number {number}; `chronarch upkeep log` shows it.")
    return row


def _remove(received: Received | None) -> None:
    if received is not None:
        received.path.unlink()
