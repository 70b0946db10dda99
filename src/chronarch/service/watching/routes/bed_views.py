"""Where cameras see beds: the corners are marked in the newest picture, which shows the clear bed."""

from __future__ import annotations

from collections.abc import Awaitable
from typing import TypeVar

from fastapi import APIRouter, Response
from sqlalchemy import select

from chronarch.core.bounds import Named
from chronarch.core.watching.camera_pose import KnownPoint
from chronarch.records import tables as t
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.machines.fleet import Fleet, FleetMachine, TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.service.process_pool import NotDone
from chronarch.service.watching.build_watching import known_point
from chronarch.service.watching.cameras import Cameras, KnownCamera, NewestFrame, TheCameras
from chronarch.service.watching.watch_messages import Spot
from chronarch.service.watching.watch_process import TheWatchProcess, WatchProcess
from chronarch.wire.common import RequestDone, fill
from chronarch.wire.watching import watch as w

Found = TypeVar("Found")
RESTS_WITHIN_S = 25.0
"""How long a picture of a head at rest is waited for, real seconds: a head that has just been moved rests after 20."""
router = APIRouter(tags=["watch"], route_class=RetryingRoute)


@router.get("/cameras/{name}/bed")
async def bed_sight(
    name: Named, context: Context, fleet: TheFleet, cameras: TheCameras, process: TheWatchProcess
) -> w.BedSight:
    """How a camera sees the bed."""
    known = cameras.find(name)
    async with context.sessions() as db:
        row = await db.get(t.BedView, known.row.id)
        if row is None:
            raise ApiProblem(404, f"The bed's corners are not marked in the picture of {known.row.name} yet.")
        clear = await _clear(context, known)
    sight = await _sight(process, fleet, known, clear, [(u, v) for u, v in row.corners], known_point(row))
    return sight.model_copy(update={"set_at": row.set_at, "set_by": row.set_by})


@router.get("/cameras/{name}/bed/clear", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def clear_frame(name: Named, context: Context, cameras: TheCameras) -> Response:
    """The frame of the clear bed that others are compared with, a JPEG."""
    clear = await _clear(context, cameras.find(name))
    return Response(clear, media_type="image/jpeg", headers={"Cache-Control": "no-store"})


@router.post("/cameras/{name}/bed/check")
async def check_corners(
    name: Named, asked: w.BedCorners, fleet: TheFleet, cameras: TheCameras, process: TheWatchProcess
) -> w.BedSight:
    """What corners would come to, in the newest picture. Nothing is kept."""
    known = cameras.find(name)
    newest = await _newest(cameras, known, _machine(fleet, known) if asked.tip else None)
    return await _sight(process, fleet, known, newest.jpeg, asked.corners, _tip(fleet, known, newest, asked.tip))


@router.get("/cameras/{name}/bed/offer")
async def offered_corners(name: Named, fleet: TheFleet, cameras: TheCameras, process: TheWatchProcess) -> w.BedSight:
    """Where the bed's corners may be in the newest picture, and what they would come to. Nothing is kept."""
    known = cameras.find(name)
    jpeg = (await _newest(cameras, known)).jpeg
    found = await _looked(process.offer(jpeg, _bed(fleet, known)))
    if found is None:
        raise ApiProblem(
            404, f"Nothing in the picture of {known.row.name} is like a clear bed; mark its corners by hand."
        )
    return await _sight(process, fleet, known, jpeg, found)


@router.put("/cameras/{name}/bed")
async def mark_corners(
    name: Named, asked: w.BedCorners, who: Caller, context: Context, fleet: TheFleet, cameras: TheCameras,
    process: TheWatchProcess,
) -> w.BedSight:  # fmt: skip
    """Keep the bed's corners, and the newest picture as that of the clear bed."""
    known = cameras.find(name)
    machine = _machine(fleet, known)
    _refuse_build(machine)
    newest = await _newest(cameras, known, machine)
    _refuse_build(machine)  # it may have got one meanwhile
    tip = _tip(fleet, known, newest, asked.tip)
    sight = await _sight(process, fleet, known, newest.jpeg, asked.corners, tip)
    if machine is not None and not machine.head_rests(newest.head.at):
        raise ApiProblem(409, f"The head of {machine.row.name} has just moved; try again with the next picture.")
    async with context.sessions() as db:
        row = await db.get(t.BedView, known.row.id) or t.BedView(camera_id=known.row.id)
        row.corners, row.clear = [list(corner) for corner in asked.corners], newest.jpeg
        row.tip = list(asked.tip) if asked.tip else None
        row.head_mm = list(machine.head_mm) if machine is not None and machine.head_mm else None
        row.width, row.height = sight.width, sight.height
        row.set_at, row.set_by = context.clock.now(), who.signature
        db.add(row)
        await db.commit()
        return sight.model_copy(update={"set_at": row.set_at, "set_by": row.set_by})


@router.delete("/cameras/{name}/bed")
async def forget_corners(name: Named, context: Context, cameras: TheCameras) -> RequestDone:
    """Forget the bed's corners: builds are not watched by this camera any more."""
    known = cameras.find(name)
    async with context.sessions() as db:
        row = await db.get(t.BedView, known.row.id)
        if row is None:
            raise ApiProblem(404, f"The bed's corners are not marked in the picture of {known.row.name}.")
        await db.delete(row)
        await db.commit()
    return RequestDone(text=f"the corners in the picture of {known.row.name} are forgotten")


def _refuse_build(machine: FleetMachine | None) -> None:
    """Raises ApiProblem (409) while a build is on the bed."""
    if machine is not None and machine.brief is not None:
        raise ApiProblem(409, f"{machine.row.name} has a build on its bed; mark the corners once the bed is clear.")


def _machine(fleet: Fleet, known: KnownCamera) -> FleetMachine | None:
    return fleet.find(known.machine) if known.machine else None


def _tip(fleet: Fleet, known: KnownCamera, newest: NewestFrame, tip: Spot | None) -> KnownPoint | None:
    """The nozzle's tip as a point that the machine knows. Raises ApiProblem (409)."""
    if tip is None:
        return None
    machine = _machine(fleet, known)
    at = machine.head_mm if machine is not None and machine.head_rests(newest.head.at) else None
    if at is None:
        raise ApiProblem(
            409, f"It is not known where the nozzle of {known.machine or known.row.name} is in this picture: home it, "
            "wait until the head rests, and mark the tip in a newer picture; or leave it out."
        )  # fmt: skip
    return KnownPoint(at, tip)


async def _newest(cameras: Cameras, known: KnownCamera, machine: FleetMachine | None = None) -> NewestFrame:
    """The newest picture; with a machine, one that was taken while its head rested, if one comes soon. Raises
    ApiProblem (409)."""

    def rests(newest: NewestFrame) -> bool:
        return machine is None or machine.head_rests(newest.head.at)

    newest = await cameras.newest(known, rests, RESTS_WITHIN_S)
    if newest is None:
        why = known.trouble.text if known.trouble else "none has come yet"
        raise ApiProblem(409, f"There is no picture of {known.row.name} to mark corners in: {why}.")
    return newest


async def _clear(context: ServiceContext, known: KnownCamera) -> bytes:
    async with context.sessions() as db:
        query = select(t.BedView.clear).where(t.BedView.camera_id == known.row.id)
        found = (await db.execute(query)).scalar_one_or_none()
    if found is None:
        raise ApiProblem(404, f"The bed's corners are not marked in the picture of {known.row.name} yet.")
    return found


def _bed(fleet: Fleet, known: KnownCamera) -> Spot:
    """The bed that a camera looks at, mm."""
    if not known.machine:
        raise ApiProblem(409, f"{known.row.name} looks at a room; only a machine has a bed.")
    x, y, _ = fleet.find(known.machine).model.volume_mm
    return x, y


async def _looked(look: Awaitable[Found]) -> Found:
    """What the watch's process sees in a picture. Raises ApiProblem (422, 503)."""
    try:
        return await look
    except ValueError as error:
        raise ApiProblem(422, str(error)) from None
    except NotDone as error:
        raise ApiProblem(503, f"The watch could not look at the picture: {error}") from None


async def _sight(
    process: WatchProcess, fleet: Fleet, known: KnownCamera, jpeg: bytes, corners: list[Spot],
    point: KnownPoint | None = None,
) -> w.BedSight:  # fmt: skip
    found = await _looked(process.grid(jpeg, tuple(corners), _bed(fleet, known), point))
    wide, high = found.size
    tip = point.seen_px if point else None
    return fill(w.BedSight, found, corners=corners, width=wide, height=high, tip=tip)
