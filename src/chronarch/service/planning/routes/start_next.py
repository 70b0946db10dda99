"""Starting the next build by hand."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.core.bounds import Named, Number
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.planning.dispatcher import TheDispatcher
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["machines"], route_class=RetryingRoute)


@router.post("/machines/{name}/start-next")
async def start_next(name: Named, context: Context, fleet: TheFleet, dispatcher: TheDispatcher) -> RequestDone:
    """Start the next waiting copy that fits this idle machine, whatever its intake."""
    known = fleet.find(name)
    async with context.sessions() as db:
        what = await dispatcher.start_next(db, known)
    if not what:
        raise ApiProblem(409, f"Nothing was started: {known.row.name} is not idle, or no waiting job fits it.")
    return RequestDone(text=f"{known.row.name} builds {what}.")


@router.post("/machines/{name}/start/{job}")
async def start_job(name: Named, job: Number, fleet: TheFleet, dispatcher: TheDispatcher) -> RequestDone:
    """Start the next waiting copy of one job on this idle machine now, whatever its intake."""
    known = fleet.find(name)
    what = await dispatcher.start_job(job, name)
    if not what:
        why = f"{known.row.name} is not idle, or job {job} has no waiting copy that fits it"
        raise ApiProblem(409, f"Nothing was started: {why}; `chronarch jobs why {job}` says more.")
    return RequestDone(text=f"{known.row.name} builds {what}.")
