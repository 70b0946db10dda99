"""Rounds."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from chronarch.core.bounds import Word
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.rounds.tasks import rounds
from chronarch.wire import rounds as w

router = APIRouter(tags=["rounds"], route_class=RetryingRoute)
GOOD_FOR_S = 1.0


@router.get("/rounds", response_model=w.Rounds)
async def all_rounds(
    request: Request,
    context: Context,
    fleet: TheFleet,
    planner: ThePlanner,
    views: TheViews,
    site: Word | None = None,
) -> Response:
    """What must be done by hand, the most costly first; of one site if it is named."""
    state = await planner.version()
    planned, now = await planner.shown(), context.clock.now()
    return await views.read(
        request, w.Rounds, lambda db: rounds(now, fleet, planned, db, site), state, good_for_s=GOOD_FOR_S
    )
