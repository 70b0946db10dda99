"""Why a job waits."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.core.bounds import Number
from chronarch.core.orders.states import JobState
from chronarch.core.planning.explanations import smallest_change, why_not
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library.content_facts import TheContentFacts
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.orders.job_views import OVER
from chronarch.service.orders.jobs import find
from chronarch.service.orders.waiting_jobs import jobs_as_they_are
from chronarch.service.planning.planner import ThePlanner
from chronarch.service.planning.snapshot import CurrentPlan
from chronarch.wire.planning.plan import JobWhy

router = APIRouter(tags=["jobs"], route_class=RetryingRoute)


@router.get("/jobs/{number:record}/why")
async def job_why(
    number: Number, context: Context, fleet: TheFleet, planner: ThePlanner, facts: TheContentFacts
) -> JobWhy:
    """Why a job waits: every machine with its reasons, and the smallest change that would start it."""
    async with context.sessions() as db:
        job = await find(db, number)
        (waiting,) = await jobs_as_they_are(db, facts, [job])
    planned, copies = await planner.shown(), waiting.copies
    state = copies.state(held=job.held, withdrawn=job.withdrawn)
    if state in OVER or not copies.waiting:
        return JobWhy(job=number, why=f"Nothing of it waits: it is {state}.", machines=[])
    found = why_not(waiting.needs.options, [fleet.standing(k) for k in fleet.all()])
    text = "Held by a person; release it to let it run." if state is JobState.HELD else planner.why(waiting)
    coming = _next_words(fleet, planned, number)
    return JobWhy(job=number, why=text, change=smallest_change(found), next=coming, machines=found)


def _next_words(fleet: Fleet, planned: CurrentPlan, number: int) -> str:
    a = planned.first_of.get(number)
    if a is None:
        return ""
    start = planned.plan.time(a.start_s)
    day = "" if start.date() == planned.plan.at.date() else f"{start.astimezone(fleet.zone):%a} "
    return f"planned on {a.machine} at {day}{fleet.words(start)}"
