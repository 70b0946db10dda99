"""Acting from a message: what a link would do, and doing it. The link itself is the right to it."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import APIRouter, Header
from fastapi.responses import Response

from chronarch.core.bounds import Word
from chronarch.core.watching.suspicion import FailureMode
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.notices.act_links import LONGEST, TheActLinks
from chronarch.service.notices.messages import shown
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.content_folder import TheFrameStore
from chronarch.wire.common import RequestDone
from chronarch.wire.notices.acting import ActPreview

router = APIRouter(tags=["notices"], route_class=RetryingRoute)
ActToken = Annotated[Word, Header(alias="X-Act-Link", max_length=LONGEST)]


@router.get("/act")
async def preview(token: ActToken, links: TheActLinks) -> ActPreview:
    """What a link of a message would do. Nothing is done."""
    return await links.preview(token)


@router.post("/act")
async def use(token: ActToken, links: TheActLinks, mode: FailureMode | None = None) -> RequestDone:
    """Do what a link of a message says, once. `mode`: what the watch has missed, where that is said."""
    return RequestDone(text=await links.use(token, mode))


@router.get("/act/picture")
async def picture(token: ActToken, links: TheActLinks, frames: TheFrameStore) -> Response:
    """The frame that shows what a link is about, a JPEG."""
    sha256, place = await links.picture(token)
    if not sha256 or not frames.path(sha256).exists():
        raise ApiProblem(404, "There is no picture of this.")
    return Response(await asyncio.to_thread(shown, frames.path(sha256), place), media_type="image/jpeg")
