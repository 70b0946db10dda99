"""Rounds."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.core.bounds import Word
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.rounds.tasks import rounds
from chronarch.wire import rounds as w

router = APIRouter(tags=["rounds"], route_class=RetryingRoute)


@router.get("/rounds")
async def all_rounds(context: Context, fleet: TheFleet, planner: ThePlanner, site: Word | None = None) -> w.Rounds:
    """What must be done by hand, the most costly first; of one site if it is named."""
    async with context.sessions() as db:
        return await rounds(context, fleet, planner, db, site)
