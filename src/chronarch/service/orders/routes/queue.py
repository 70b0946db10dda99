"""The order of the queue."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Header, Request, Response
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Word
from chronarch.core.library.names import as_number
from chronarch.records import tables as t
from chronarch.records.orders import queue as orders
from chronarch.records.orders.jobs import copies_of
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Page, Paged
from chronarch.service.http.views import TheViews
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.orders.job_actions import BATCH
from chronarch.service.orders.job_views import OVER, JobViews, TheJobViews
from chronarch.service.orders.jobs import find
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import jobs as w

router = APIRouter(tags=["jobs"], route_class=RetryingRoute)


async def _line(db: AsyncSession, views: JobViews, page: Page, search: str = "") -> w.QueueLine:
    row = await orders.line_now(db)
    copies, work_s = views.outlook.waits()
    line = w.QueueLine(version=0, jobs=await views.page(db, page, search), copies=copies, work_s=work_s)
    if row is None:
        return line
    return line.model_copy(
        update={"version": row.version, "changed_by": row.by, "changed_at": row.at, "change": row.text}
    )


@router.get("/queue", response_model=w.QueueLine)
async def queue(request: Request, page: Paged, made: TheViews, views: TheJobViews, search: Word = "") -> Response:
    """What waits, in order, with the version that a move must name. `search` looks in files, parts, customers, notes
    and tags."""
    state = await views.outlook.version()
    return await made.read(request, w.QueueLine, lambda db: _line(db, views, page, search), state, page)


def _version(if_match: str | None) -> int | None:
    if not if_match or if_match == "*":
        return None
    text = if_match.strip().removeprefix("W/").strip('"')
    version = as_number(text)
    if version is None:
        raise ApiProblem(400, f'If-Match is a version of the queue, like "7"; {if_match!r} is none.')
    return version


async def _take_line(
    context: ServiceContext, fleet: Fleet, db: AsyncSession, if_match: str | None, by: str, text: str
) -> None:
    try:
        await orders.note_change(db, _version(if_match), by, text, context.clock.now())
    except orders.QueueChanged as error:
        line = error.line
        at = fleet.words(line.at)
        raise ApiProblem(
            412, f"{line.by} changed the line at {at} while you were at it: {line.text}. Look again, and repeat yours."
        ) from None


@router.post("/queue/move")
async def move(
    asked: w.QueueMove,
    who: Caller,
    context: Context,
    fleet: TheFleet,
    page: Paged,
    views: TheJobViews,
    if_match: Annotated[Word | None, Header()] = None,
) -> w.QueueLine:
    """Move jobs before another one in the queue. With `If-Match: "VERSION"` the move is refused (412) when somebody
    else has changed the queue since."""
    named = ", ".join(map(str, asked.jobs))
    text = f"job {named} put {f'before job {asked.before}' if asked.before else 'at the end'}"
    async with context.sessions() as db:
        await _take_line(context, fleet, db, if_match, who.signature, text)
        try:
            await orders.move(db, asked.jobs, asked.before)
        except KeyError as error:
            raise ApiProblem(404, f"There is no job {error.args[0]} in the line; look again.") from None
        await db.commit()
        await views.outlook.version()
        return await _line(db, views, page)


@router.post("/queue/batch")
async def batch(
    asked: w.JobBatch,
    who: Caller,
    context: Context,
    fleet: TheFleet,
    page: Paged,
    views: TheJobViews,
    if_match: Annotated[Word | None, Header()] = None,
) -> w.QueueLine:
    """Hold, release, withdraw, or put to the top several jobs: all of them, or none."""
    async with context.sessions() as db:
        if asked.wish in ("top", "untop"):
            where = "put to the top" if asked.wish == "top" else "taken from the top"
            await _take_line(
                context, fleet, db, if_match, who.signature, f"job {', '.join(map(str, asked.jobs))} {where}"
            )
        rows = [await find(db, number) for number in asked.jobs]
        copies = await copies_of(db, rows)
        for job in rows:
            state = copies[job.id].state(held=job.held, withdrawn=job.withdrawn)
            if state in OVER:
                raise ApiProblem(409, f"Job {job.id} is {state}; there is nothing to {asked.wish}. No job was changed.")
            BATCH[asked.wish](job)
        if asked.wish == "top":
            await orders.move(db, asked.jobs, next(iter(await _first(db, asked.jobs)), None))
        await db.commit()
        await views.outlook.version()
        return await _line(db, views, page)


async def _first(db: AsyncSession, but: list[int]) -> list[int]:
    query = select(t.Job.id).where(t.Job.id.not_in(but)).order_by(t.Job.line, t.Job.id).limit(1)
    return list((await db.execute(query)).scalars())
