"""The plan, and what it would be if something were different."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.planning.scenarios import what_if
from chronarch.service.planning.views import plan_wire
from chronarch.wire.planning import scenarios as w
from chronarch.wire.planning.plan import PlanWithForecast

router = APIRouter(tags=["plan"], route_class=RetryingRoute)


@router.get("/plan")
async def plan(context: Context, fleet: TheFleet, planner: ThePlanner) -> PlanWithForecast:
    """What each machine does next, when, and why; the hours when somebody is there; why machines are idle."""
    async with context.sessions() as db:
        planned = await planner.current(db)
    return await plan_wire(fleet, planned)


@router.post("/what-if")
async def ask_what_if(wish: w.WhatIf, context: Context, fleet: TheFleet, planner: ThePlanner) -> w.WhatIfAnswer:
    """What would happen if: answered from a copy. Nothing of the shop changes."""
    async with context.sessions() as db:
        return await what_if(fleet, planner, db, wish)
