"""Photos of machines, by which each is known at a glance."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response
from fastapi.responses import FileResponse

from chronarch.core.bounds import Named
from chronarch.records import tables as t
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.library.content_store import ContentStore, TheContentStore
from chronarch.service.library.intake import drop_unused
from chronarch.service.library.pictures import keep_picture, picture_file, receive_picture
from chronarch.service.machines.fleet import Fleet, TheFleet
from chronarch.service.problems import ApiProblem
from chronarch.wire.machines.machine import MachineDetail

router = APIRouter(tags=["machines"], route_class=RetryingRoute)


@router.put("/machines/{name}/photo", openapi_extra=body("image/jpeg", "image/png"))
async def put_photo(
    name: Named, request: Request, context: Context, fleet: TheFleet, store: TheContentStore
) -> MachineDetail:
    """A picture of the machine, JPEG or PNG."""
    fleet.find(name)
    received = await receive_picture(store, request)
    async with context.sessions() as db:
        sha256 = await keep_picture(db, store, received)
        await db.commit()
    return await _set(context, fleet, store, name, sha256)


@router.get("/machines/{name}/photo", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def photo(name: Named, fleet: TheFleet, store: TheContentStore) -> FileResponse:
    """The picture of the machine."""
    known = fleet.find(name)
    if known.row.photo is None:
        raise ApiProblem(404, f"There is no photo of {known.row.name}.")
    return picture_file(store, known.row.photo)


@router.delete("/machines/{name}/photo")
async def remove_photo(name: Named, context: Context, fleet: TheFleet, store: TheContentStore) -> MachineDetail:
    """Show no photo of the machine any more."""
    return await _set(context, fleet, store, name, None)


async def _set(
    context: ServiceContext, fleet: Fleet, store: ContentStore, name: str, sha256: str | None
) -> MachineDetail:
    """Show another photo, or none; the one before is kept no longer."""
    known = fleet.find(name)
    async with context.sessions() as db:
        row = await db.get_one(t.Machine, known.row.id, with_for_update=True)
        before, row.photo = row.photo, sha256
        await db.commit()
        if before is not None and before != sha256:
            await drop_unused(store, db, [before])
        await fleet.load(db, row.name)
    return fleet.detail(fleet.find(name))
