"""Kept frames: of a build, of a camera, and what keeping them costs."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from fastapi.responses import FileResponse
from sqlalchemy import Select, select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Counted, Named, Number
from chronarch.core.watching.frame_keeping import ShopFigures, keeping_cost
from chronarch.records import tables as t
from chronarch.records.paging import moment, number
from chronarch.records.watching import frames as records
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import ManyPaged, Page
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.cameras import Cameras, TheCameras
from chronarch.service.watching.content_folder import TheFrameStore
from chronarch.service.watching.settings import load_watching
from chronarch.wire.common import GivenTime, Label, fill
from chronarch.wire.watching.frames import KeptFrame
from chronarch.wire.watching.settings import EverySeconds, FrameCost

router = APIRouter(tags=["cameras"], route_class=RetryingRoute)
MANY_BUILDS = 10
USUAL_FRAME_BYTES, USUAL_WORKING, USUAL_LAYERS_PER_H, USUAL_BUILDS_PER_DAY = 60_000.0, 0.5, 60.0, 4.0
"""What a shop is taken for that says nothing of itself yet; builds a machine and day."""


async def _page(db: AsyncSession, query: Select[Any], page: Page, cameras: Cameras) -> list[KeptFrame]:
    keys = moment(t.Frame.at), number(t.Frame.id)
    rows = page.cut((await db.execute(page.of(query, *keys))).scalars().all(), lambda f: (f.at, f.id))
    names = {known.row.id: known.row.name for known in cameras.all()}
    return [fill(KeptFrame, f, number=f.id, camera=names.get(f.camera_id or 0, ""), build=f.build_id) for f in rows]


@router.get("/builds/{number}/frames")
async def frames_of_build(
    number: Number, context: Context, cameras: TheCameras, page: ManyPaged, response: Response,
    camera: Annotated[Label, Query(description="Of this camera only.")] = "",
) -> list[KeptFrame]:  # fmt: skip
    """The kept frames of a build, in the order in which they were taken."""
    query = select(t.Frame).where(t.Frame.build_id == number)
    if camera:
        query = query.where(t.Frame.camera_id == cameras.find(camera).row.id)
    async with context.sessions() as db:
        if await db.get(t.Build, number) is None:
            raise ApiProblem(404, f"There is no build {number}.")
        found = await _page(db, query, page, cameras)
    if page.next:
        response.headers["Link"] = page.next
    return found


@router.get("/cameras/{name}/frames")
async def frames_of_camera(
    name: Named, context: Context, cameras: TheCameras, page: ManyPaged, response: Response,
    begin: GivenTime | None = None, end: GivenTime | None = None,
) -> list[KeptFrame]:  # fmt: skip
    """The kept frames of a camera between two times, in the order in which they were taken."""
    query = select(t.Frame).where(t.Frame.camera_id == cameras.find(name).row.id)
    if begin is not None:
        query = query.where(t.Frame.at >= begin)
    if end is not None:
        query = query.where(t.Frame.at < end)
    async with context.sessions() as db:
        found = await _page(db, query, page, cameras)
    if page.next:
        response.headers["Link"] = page.next
    return found


@router.get("/frames/{number}", response_class=FileResponse, responses={200: {"content": {"image/jpeg": {}}}})
async def kept_frame(number: Counted, context: Context, store: TheFrameStore) -> Response:
    """One kept frame, a JPEG. It never changes."""
    async with context.sessions() as db:
        row = await db.get(t.Frame, number)
    path = store.path(row.sha256) if row is not None else None
    if path is None or not path.exists():
        raise ApiProblem(404, f"There is no frame {number}; it may have been thinned out.")
    headers = {"Cache-Control": "private, max-age=31536000, immutable"}
    return FileResponse(path, media_type="image/jpeg", headers=headers)


@router.get("/watching/cost")
async def frame_cost(
    context: Context, cameras: TheCameras, keep_every_s: Annotated[EverySeconds | None, Query()] = None
) -> FrameCost:
    """What keeping a frame of each camera every so many seconds would come to on the disk, going by the last
    fortnight."""
    async with context.sessions() as db:
        every_s = keep_every_s or (await load_watching(db)).keep_every_s
        count, size = await records.total(db)
        shop = await _figures(db, context.clock.now(), cameras, size / count if count else 0.0)
    cost = keeping_cost(every_s, shop)
    return FrameCost(
        lasting_gb=cost.lasting / 1e9, for_ever_gb_a_year=cost.for_ever_a_year / 1e9, now_gb=size / 1e9, frames=count,
        frame_kb=shop.frame_bytes / 1e3,
    )  # fmt: skip


async def _figures(db: AsyncSession, now: datetime, cameras: Cameras, mean_bytes: float) -> ShopFigures:
    """What the last fortnight says of the shop; a middling shop where it says nothing."""
    known = cameras.all()
    at_machines = sum(bool(one.machine) for one in known)
    machines = max(1, len({one.machine for one in known if one.machine}))
    live = [len(newest.jpeg) for one in known if (newest := one.newest.get("full")) is not None]
    made = await records.made_since(db, now - records.FORTNIGHT)
    told = made.builds >= MANY_BUILDS and made.seconds > 0
    return ShopFigures(
        at_machines=at_machines, at_rooms=len(known) - at_machines,
        frame_bytes=mean_bytes or (sum(live) / len(live) if live else USUAL_FRAME_BYTES),
        working=min(1.0, made.seconds / (machines * records.FORTNIGHT.total_seconds())) if told else USUAL_WORKING,
        layers_per_h=made.layers / made.seconds * 3600 if told else USUAL_LAYERS_PER_H,
        builds_per_day=made.builds / records.FORTNIGHT.days if told else USUAL_BUILDS_PER_DAY * machines,
        cameras_per_machine=at_machines / machines,
    )  # fmt: skip
