"""The history: builds of all time, as pages and files; notes and tags; making them again; views that are saved."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import delete, func, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.records.ledger.build_search import SORTED, find
from chronarch.records.orders.builds import builds_wire
from chronarch.records.orders.jobs import requirement_of
from chronarch.service.context import Context
from chronarch.service.control.builds import build_view, find_build
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Page
from chronarch.service.http.views import TheViews
from chronarch.service.ledger.build_export import exported
from chronarch.service.ledger.build_forms import FORMS
from chronarch.service.ledger.build_wishes import wanted
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.orders.job_views import TheJobViews
from chronarch.service.orders.jobs import make_job
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import RequestDone
from chronarch.wire.ledger import history as h
from chronarch.wire.orders import builds as w
from chronarch.wire.orders.jobs import Job, NewJob

router = APIRouter(tags=["builds"], route_class=RetryingRoute)
PAGE, MOST_SAVED = "builds", 200


@router.get("/builds", response_model=list[w.Build])
async def builds(
    request: Request,
    context: Context,
    fleet: TheFleet,
    views: TheViews,
    asked: Annotated[h.BuildListing, Query()],
) -> Response:
    """Builds of all time, newest first unless something else is asked for."""
    page = Page(asked.limit, asked.after, request)
    keys, place = SORTED[asked.sort]

    async def work(db: AsyncSession) -> list[w.Build]:
        what = await wanted(db, context, fleet, asked)
        found = await find(db, what, asked.sort, page.place(keys), page.limit + 1)
        return await builds_wire(db, page.cut(found, place))

    state = context.changes.version("builds", "files", "machines", "jobs", "parts", "orders")
    return await views.read(request, list[w.Build], work, state, page)


@router.get("/builds/export", response_class=StreamingResponse, responses={200: {"content": {"text/csv": {}}}})
async def export(context: Context, fleet: TheFleet, asked: Annotated[h.BuildExport, Query()]) -> StreamingResponse:
    """All builds that are asked for, as CSV (RFC 4180), JSON Lines or Parquet, as they are read from the records."""
    async with context.sessions() as db:
        conditions = await wanted(db, context, fleet, asked)
    pieces = exported(context.sessions, conditions, asked.sort, asked.format)
    name = {"Content-Disposition": f'attachment; filename="builds.{asked.format}"'}
    return StreamingResponse(pieces, media_type=FORMS[asked.format].media_type, headers=name)


@router.get("/builds/views")
async def saved_views(context: Context) -> list[h.SavedView]:
    """What people ask for again and again, by name."""
    query = select(t.SavedView).where(t.SavedView.page == PAGE).order_by(t.SavedView.name)
    async with context.sessions() as db:
        return [_saved(row) for row in (await db.execute(query)).scalars()]


@router.put("/builds/views/{name}")
async def save_view(name: h.ViewName, asked: h.BuildSearch, who: Caller, context: Context) -> h.SavedView:
    """Save what is asked for under a name, in place of what that name stood for."""
    async with context.sessions() as db:
        row = await db.get(t.SavedView, (PAGE, name), with_for_update=True)
        if row is None:
            kept = (await db.execute(select(func.count()).where(t.SavedView.page == PAGE))).scalar_one()
            if kept >= MOST_SAVED:
                raise ApiProblem(409, f"{MOST_SAVED} views are saved already; forget one first.")
            row = t.SavedView(page=PAGE, name=name)
            db.add(row)
        row.asked = asked.model_dump(mode="json", exclude_defaults=True)
        row.saved_by, row.saved_at = who.signature, context.clock.now()
        await db.commit()
        return _saved(row)


@router.delete("/builds/views/{name}")
async def forget_view(name: h.ViewName, context: Context) -> RequestDone:
    """Forget a saved view."""
    async with context.sessions() as db:
        row = await db.get(t.SavedView, (PAGE, name))
        if row is None:
            raise ApiProblem(404, f"No view is saved as {name!r}; `chronarch history --saved` names those that are.")
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"The view {name} is forgotten.")


def _saved(row: t.SavedView) -> h.SavedView:
    asked = h.BuildSearch.model_validate(row.asked)
    return h.SavedView(name=row.name, asked=asked, saved_by=row.saved_by, saved_at=row.saved_at)


@router.patch("/builds/{number:record}")
async def annotate(number: Number, said: h.BuildNote, context: Context) -> w.Build:
    """Write a note beside a build, or give it tags, by which it is found again."""
    async with context.sessions() as db:
        row = await db.get(t.Build, number, with_for_update=True)
        if row is None:
            raise ApiProblem(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
        if said.note is not None:
            row.note = said.note
        if said.tags is not None:
            await db.execute(delete(t.BuildTag).where(t.BuildTag.build_id == number))
            wanted = sorted({tag.strip().lower() for tag in said.tags} - {""})
            db.add_all(t.BuildTag(build_id=number, tag=tag[:60]) for tag in wanted)
        await db.commit()
        return await build_view(db, number)


@router.post("/builds/again", status_code=201)
async def again(asked: h.Again, who: Caller, context: Context, fleet: TheFleet, jobs: TheJobViews) -> list[Job]:
    """Make builds again: each becomes a job of its own, of the same part or file, with the same needs."""
    async with context.sessions() as db:
        made = []
        for number in asked.builds:
            build = (await find_build(db, number))[0]
            before = await db.get_one(t.Job, build.job_id)
            wish = NewJob(
                file=before.file_id, part=before.part_id, revision=before.pinned, copies=asked.copies,
                requirement=requirement_of(before)[0], note=before.note, tags=list(before.tags),
            )  # fmt: skip
            made.append(await make_job(context, fleet, db, wish, who.signature))
        await db.commit()
        return [(await jobs.now(db, job))[0] for job in made]
