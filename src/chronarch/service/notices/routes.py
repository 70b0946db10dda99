"""Notices."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from sqlalchemy import select, update

from chronarch.core.bounds import Counted
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.notices import Notice

router = APIRouter(tags=["notices"], route_class=RetryingRoute)
routers = (router,)


@router.get("/notices")
async def notices(
    context: Context,
    fleet: TheFleet,
    seen: bool = False,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
) -> list[Notice]:
    """Notices, newest first; those already seen too with `seen`."""
    query = select(t.Notice).order_by(t.Notice.id.desc()).limit(limit)
    if not seen:
        query = query.where(~t.Notice.seen)
    names = {known.row.id: known.row.name for known in fleet.all()}
    async with context.sessions() as db:
        rows = (await db.execute(query)).scalars().all()
    return [fill(Notice, n, machine=names.get(n.machine_id or 0), build=n.build_id) for n in rows]


@router.post("/notices/seen")
async def all_seen(context: Context, up_to: Counted) -> RequestDone:
    """Mark every notice up to this number as seen."""
    async with context.sessions() as db:
        await db.execute(update(t.Notice).where(t.Notice.id <= up_to).values(seen=True))
        await db.commit()
    return RequestDone(text="marked as seen")
