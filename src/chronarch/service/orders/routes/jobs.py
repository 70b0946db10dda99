"""Jobs."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import Annotated

from fastapi import APIRouter, Header, Request, Response
from pydantic import BaseModel

from chronarch.core.bounds import Number, Word
from chronarch.records.orders.jobs import copies_of
from chronarch.records.orders.orders import settle
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.idempotency import Note, fingerprint, once
from chronarch.service.http.paging import Paged
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.orders.job_actions import BATCH
from chronarch.service.orders.job_views import OVER, JobViews, TheJobViews
from chronarch.service.orders.jobs import find, find_file, make_job, stored_requirement
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import jobs as w

router = APIRouter(tags=["jobs"], route_class=RetryingRoute)


@router.get("/jobs", response_model=list[w.Job])
async def jobs(
    request: Request,
    page: Paged,
    made: TheViews,
    views: TheJobViews,
    search: Word = "",
    ended: bool = False,
    newest: bool = False,
) -> Response:
    """Jobs in the order of the queue, or the newest first; with `ended` also finished and withdrawn ones. `search`
    looks in files, parts, customers, notes and tags."""
    state = await views.outlook.version()
    return await made.read(request, list[w.Job], lambda db: views.page(db, page, search, ended, newest), state, page)


@router.post("/jobs", status_code=201, response_model=w.Job)
async def submit(
    asked: w.NewJob,
    who: Caller,
    context: Context,
    fleet: TheFleet,
    views: TheJobViews,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """Queue copies of a file or of a part. An idle machine that fits takes one within a second."""

    async def work(note: Note) -> tuple[int, BaseModel]:
        return 201, await _submit(context, fleet, views, asked, who.signature)

    return await once(context, who.identity, idempotency_key, fingerprint("jobs", asked.model_dump_json()), work)


async def _submit(context: ServiceContext, fleet: Fleet, views: JobViews, asked: w.NewJob, by: str) -> w.Job:
    async with context.sessions() as db:
        job = await make_job(context, fleet, db, asked, by)
        await db.commit()
        (wire,) = await views.now(db, job)
    return wire


@router.patch("/jobs/{number:record}")
async def change_job(
    number: Number, change: w.JobChange, context: Context, fleet: TheFleet, views: TheJobViews
) -> w.Job:
    """Change a job: how many, by when, what it needs, its revision. Builds that run go on as they are."""
    async with context.sessions() as db:
        job = await find(db, number)
        before = (await copies_of(db, [job]))[job.id]
        given = change.model_fields_set
        if change.revision is not None:
            if job.file_id is None:
                raise ApiProblem(409, f"Job {number} is for a part; only a file's job can be pinned to a revision.")
            await find_file(db, job.file_id, change.revision)
            job.pinned = change.revision or None
        if change.copies is not None:
            if job.withdrawn:
                raise ApiProblem(409, f"Job {number} is withdrawn; queue a new one instead.")
            job.copies = change.copies
        if change.requirement is not None:
            job.requirement = stored_requirement(fleet, change.requirement)
        for name, column in (("due", "due_at"), ("not_before", "not_before")):
            if name in given:
                setattr(job, column, getattr(change, name))
        for name in ("priority", "note", "tags"):
            if getattr(change, name) is not None:
                setattr(job, name, getattr(change, name))
        await settle(db, job, before, context.clock.now())
        await db.commit()
        (wire,) = await views.now(db, job)
    return wire


@router.get("/jobs/{number:record}")
async def job(number: Number, context: Context, views: TheJobViews) -> w.Job:
    async with context.sessions() as db:
        return (await views.now(db, await find(db, number)))[0]


WISHES = {
    "hold": "Start no further copy until it is released.",
    "release": "Let a held job run again.",
    "withdraw": "Start no further copy, for good; builds that run go on.",
}


def _route(wish: str) -> Callable[..., Awaitable[w.Job]]:
    async def wished(number: Number, context: Context, views: TheJobViews) -> w.Job:
        async with context.sessions() as db:
            job = await find(db, number)
            (before,) = await views.now(db, job)
            if before.state in OVER:
                raise ApiProblem(409, f"Job {number} is {before.state}; there is nothing to {wish}.")
            BATCH[wish](job)
            await db.commit()
            (wire,) = await views.now(db, job)
        return wire

    return wished


for _wish, _text in WISHES.items():
    router.post(f"/jobs/{{number:record}}/{_wish}", name=f"{_wish}_job", description=_text)(_route(_wish))
