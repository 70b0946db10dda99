"""Builds: the list, verdicts, photos."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse

from chronarch.core.bounds import Number
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.control.builds import build_view
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.pictures import keep_picture, picture_file, receive_picture
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.orders.verdicts import judge
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.orders import builds as w

router = APIRouter(tags=["builds"], route_class=RetryingRoute)


@router.get("/builds/{number:record}")
async def build(number: Number, context: Context) -> w.Build:
    async with context.sessions() as db:
        return await build_view(db, number)


@router.post("/builds/{number:record}/verdict")
async def verdict(number: Number, asked: w.Clearing, who: Caller, context: Context, fleet: TheFleet) -> w.Build:
    """The bed is cleared, and this became of the build: good pieces are counted, the rest goes back in the queue."""
    return await judge(context, fleet, number, asked, who)


@router.put("/builds/{number:record}/photo", openapi_extra=body("image/jpeg", "image/png"))
async def put_photo(number: Number, request: Request, context: Context, store: TheContentStore) -> w.Build:
    """A picture of what went wrong, JPEG or PNG."""
    received = await receive_picture(store, request)
    async with context.sessions() as db:
        build = await db.get(t.Build, number)
        if build is None:
            received.path.unlink()
            raise ApiProblem(404, f"There is no build {number}; `chronarch builds list` shows the newest.")
        build.photo = await keep_picture(db, store, received)
        await db.commit()
        return await build_view(db, number)


@router.get("/builds/{number:record}/photo", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def photo(number: Number, context: Context, store: TheContentStore) -> FileResponse:
    """The picture that somebody took of what went wrong."""
    async with context.sessions() as db:
        build = await db.get(t.Build, number)
    if build is None or build.photo is None:
        raise ApiProblem(404, f"There is no picture of build {number}.")
    return picture_file(store, build.photo)
