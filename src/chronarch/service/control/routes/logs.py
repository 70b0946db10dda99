"""Line logs: the newest lines of a machine, and builds' whole logs."""

from __future__ import annotations

import gzip
from collections.abc import Iterator
from typing import Annotated

from fastapi import APIRouter, Query, Request
from fastapi.responses import FileResponse, StreamingResponse

from chronarch.core.bounds import Counted, Named, Number
from chronarch.records import tables as t
from chronarch.records.orders.builds import select_builds
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import RequestDone
from chronarch.wire.control import actions as w
from chronarch.wire.control.commands import ReadLog

router = APIRouter(tags=["hands"], route_class=RetryingRoute)

LARGEST_LOG = 200_000_000


@router.get("/machines/{name}/log")
async def log(
    name: Named,
    fleet: TheFleet,
    after: Counted = 0,
    limit: Annotated[int, Query(ge=1, le=5000)] = 500,
    search: Annotated[str, Query(max_length=100)] = "",
) -> list[w.LogLine]:
    """The newest lines between tender and machine, both directions, oldest first; those after a number, to follow."""
    known = fleet.find(name)
    reply = await fleet.command(known, ReadLog(after=after, limit=limit, search=search))
    return reply.log


# Logs --------------------------------------------------------------------------------------------------------------


@router.put("/builds/{number:record}/log", openapi_extra=body("application/gzip"))
async def put_log(
    number: Number, request: Request, who: Caller, context: Context, fleet: TheFleet, store: TheContentStore
) -> RequestDone:
    """A tender hands over the line log of a build that has ended, gzip-packed."""
    async with context.sessions() as db:
        row = (await db.execute(select_builds().where(t.Build.id == number))).first()
    if row is None:
        raise ApiProblem(404, f"There is no build {number}.")
    fleet.in_care_of(who.tender, row[1])
    received = await store.receive(request.stream(), LARGEST_LOG)  # no connection is held meanwhile
    received.path.replace(store.log(number))
    async with context.sessions() as db:
        (await db.get_one(t.Build, number)).log_bytes = received.size
        await db.commit()
    return RequestDone(text="kept")


@router.get(
    "/builds/{number:record}/log", response_class=FileResponse, responses={200: {"content": {"text/plain": {}}}}
)
async def build_log(number: Number, store: TheContentStore) -> StreamingResponse:
    """Every line of a build that has ended, both directions, with its time: plain text."""
    path = store.log(number)
    if not path.exists():
        raise ApiProblem(
            404, f"The log of build {number} is not here: it comes from the tender once the build has ended."
        )

    def lines() -> Iterator[bytes]:
        with gzip.open(path, "rb") as source:
            while piece := source.read(1 << 18):
                yield piece

    headers = {"Content-Disposition": f'attachment; filename="build-{number}.log"'}
    return StreamingResponse(lines(), media_type="text/plain; charset=utf-8", headers=headers)
