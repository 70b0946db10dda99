"""The plan, and what it would be if something were different."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.planning.scenarios import what_if
from chronarch.service.planning.views import plan_wire
from chronarch.wire.planning import scenarios as w
from chronarch.wire.planning.plan import PlanWithForecast

router = APIRouter(tags=["plan"], route_class=RetryingRoute)


@router.get("/plan", response_model=PlanWithForecast)
async def plan(request: Request, fleet: TheFleet, planner: ThePlanner, views: TheViews) -> Response:
    """What each machine does next, when, and why; the hours when somebody is there; why machines are idle."""
    planned = await planner.shown()

    async def make() -> bytes:
        return await views.background.compute(lambda: plan_wire(fleet, planned).model_dump_json().encode())

    return await views.show(request, make, planner.many)


@router.post("/what-if")
async def ask_what_if(wish: w.WhatIf, context: Context, fleet: TheFleet, planner: ThePlanner) -> w.WhatIfAnswer:
    """What would happen if: answered from a copy. Nothing of the shop changes."""
    planned = await planner.current()
    return await planner.background.run(lambda db: what_if(fleet, planned, db, wish))
