"""Builds: the list, verdicts, photos."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.records import paging
from chronarch.records import tables as t
from chronarch.records.orders.builds import build_wire, builds_wire
from chronarch.service.context import Context
from chronarch.service.control.builds import find_build
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.http.paging import Page, pages
from chronarch.service.http.views import TheViews
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.orders.verdicts import judge
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import builds as w

router = APIRouter(tags=["builds"], route_class=RetryingRoute)
LARGEST_PHOTO = 12_000_000


@router.get("/builds", response_model=list[w.Build])
async def builds(
    request: Request,
    page: Annotated[Page, pages(50)],
    context: Context,
    fleet: TheFleet,
    views: TheViews,
    machine: Word | None = None,
    job: Number | None = None,
    uncleared: bool = False,
) -> Response:
    """Builds, newest first. With `uncleared`, only those whose bed is not cleared yet, including running ones."""
    query = select(t.Build)
    if machine:
        query = query.where(t.Build.machine_id == fleet.find(machine).row.id)
    if job is not None:
        query = query.where(t.Build.job_id == job)
    if uncleared:
        query = query.where(t.Build.open_machine.is_not(None))
    query = page.of(query, paging.number(t.Build.id, descending=True))

    async def work(db: AsyncSession) -> list[w.Build]:
        return await builds_wire(db, page.cut((await db.execute(query)).scalars().all(), lambda build: (build.id,)))

    state = context.changes.version("builds", "files", "machines")
    return await views.read(request, list[w.Build], work, state, page)


@router.get("/builds/{number:record}")
async def build(number: Number, context: Context) -> w.Build:
    async with context.sessions() as db:
        return build_wire(await find_build(db, number))


@router.post("/builds/{number:record}/verdict")
async def verdict(number: Number, asked: w.Clearing, who: Caller, context: Context, fleet: TheFleet) -> w.Build:
    """The bed is cleared, and this became of the build: good pieces are counted, the rest goes back in the queue."""
    return await judge(context, fleet, number, asked, who)


@router.put("/builds/{number:record}/photo", openapi_extra=body("image/jpeg", "image/png"))
async def put_photo(number: Number, request: Request, context: Context, store: TheContentStore) -> w.Build:
    """A picture of what went wrong, JPEG or PNG."""
    received = await store.receive(request.stream(), LARGEST_PHOTO)
    with received.path.open("rb") as source:
        head = source.read(8)
    if not head.startswith((b"\xff\xd8\xff", b"\x89PNG\r\n\x1a\n")):
        received.path.unlink()
        raise ApiProblem(422, "This is neither a JPEG nor a PNG picture; take a photo.")
    async with context.sessions() as db:
        build = await db.get(t.Build, number)
        if build is None:
            received.path.unlink()
            raise ApiProblem(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
        store.keep(received.path, received.sha256)
        if await db.get(t.Blob, received.sha256) is None:
            db.add(t.Blob(sha256=received.sha256, size=received.size))
            await db.flush()
        build.photo = received.sha256
        await db.commit()
        return build_wire(await find_build(db, number))


@router.get("/builds/{number:record}/photo", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def photo(number: Number, context: Context, store: TheContentStore) -> FileResponse:
    """The picture that somebody took of what went wrong."""
    async with context.sessions() as db:
        build = await db.get(t.Build, number)
    if build is None or build.photo is None:
        raise ApiProblem(404, f"There is no picture of build {number}.")
    path = store.path(build.photo)
    kind = "image/png" if path.open("rb").read(1) == b"\x89" else "image/jpeg"
    return FileResponse(path, media_type=kind)
