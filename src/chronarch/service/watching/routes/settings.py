"""What the shop has decided about cameras, and what they cost."""

from __future__ import annotations

from fastapi import APIRouter

from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.watching.cameras import TheCameras
from chronarch.service.watching.settings import NAME, load_watching
from chronarch.wire.watching.cameras import CameraWork
from chronarch.wire.watching.settings import Watching, WatchingUpdate

router = APIRouter(tags=["cameras"], route_class=RetryingRoute)


@router.get("/watching")
async def watching(context: Context) -> Watching:
    """What the shop has decided about cameras."""
    async with context.sessions() as db:
        return await load_watching(db)


@router.patch("/watching")
async def change_watching(change: WatchingUpdate, context: Context) -> Watching:
    """Say how much of a tender's processor its cameras may take."""
    async with context.sessions() as db:
        row = await db.get(t.Setting, NAME, with_for_update=True) or t.Setting(name=NAME, value={})
        row.value = {**row.value, **change.model_dump(mode="json", exclude_none=True)}
        db.add(row)
        await db.commit()
        return await load_watching(db)


@router.get("/camera-work")
async def camera_work(cameras: TheCameras) -> list[CameraWork]:
    """What the cameras of each tender that is connected cost it now."""
    return cameras.work()
