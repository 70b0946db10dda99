"""Notices."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Counted
from chronarch.records import tables as t
from chronarch.records.paging import number
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Paged
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import TheFleet
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.notices import Notice

router = APIRouter(tags=["notices"], route_class=RetryingRoute)
routers = (router,)


@router.get("/notices", response_model=list[Notice])
async def notices(
    request: Request, page: Paged, context: Context, fleet: TheFleet, views: TheViews, seen: bool = False
) -> Response:
    """Notices, newest first; those already seen too with `seen`."""
    query = select(t.Notice) if seen else select(t.Notice).where(~t.Notice.seen)
    query = page.of(query, number(t.Notice.id, descending=True))
    names = {known.row.id: known.row.name for known in fleet.all()}

    async def work(db: AsyncSession) -> list[Notice]:
        rows = page.cut((await db.execute(query)).scalars().all(), lambda notice: (notice.id,))
        return [fill(Notice, n, machine=names.get(n.machine_id or 0), build=n.build_id) for n in rows]

    state = context.changes.version("notices", "machines")
    return await views.read(request, list[Notice], work, state, page)


@router.post("/notices/seen")
async def all_seen(context: Context, up_to: Counted) -> RequestDone:
    """Mark every notice up to this number as seen."""
    async with context.sessions() as db:
        await db.execute(update(t.Notice).where(t.Notice.id <= up_to).values(seen=True))
        await db.commit()
    return RequestDone(text="marked as seen")
