"""Trying a camera before or after it is set up, and finding those at a tender's own computer."""

from __future__ import annotations

import base64
from typing import Annotated

from fastapi import APIRouter, Query

from chronarch.core.bounds import Named
from chronarch.core.machines.address import without_secrets
from chronarch.core.watching.camera_address import parse_camera_address
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.problems import ApiProblem
from chronarch.service.secrets import SecretLost
from chronarch.service.watching.access import check_access
from chronarch.service.watching.cameras import Cameras, TheCameras, new_question
from chronarch.wire.common import Label
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching.camera_messages import ListLocal, TryCamera

router = APIRouter(tags=["cameras"], route_class=RetryingRoute)


@router.post("/cameras/{name}/test")
async def test_camera(name: Named, cameras: TheCameras) -> w.CameraTried:
    """Take one frame of a camera now, or say exactly why there is none (502)."""
    known = cameras.find(name)
    try:
        access = cameras.access(known)
    except SecretLost as error:
        raise ApiProblem(409, f"The password of {known.row.name} cannot be read: {error}. Enter it again.") from None
    wish = w.CameraTest(tender=known.tender, settings=known.settings, **access.model_dump())
    return await _try(cameras, wish)


@router.post("/camera-test")
async def test_new_camera(asked: w.CameraTest, context: Context, cameras: TheCameras) -> w.CameraTried:
    """The same for a camera that is not set up yet, or is to be set up differently."""
    await check_access(context.config, asked)
    return await _try(cameras, _with_kept_password(asked, cameras))


def _with_kept_password(asked: w.CameraTest, cameras: Cameras) -> w.CameraTest:
    known = cameras.get(asked.camera) if asked.camera else None
    if known is None or asked.password or parse_camera_address(asked.address).password:
        return asked
    try:
        kept = cameras.access(known)
    except SecretLost:
        return asked
    if asked.address not in (kept.address, known.row.shown) or asked.login != kept.login:
        return asked
    return asked.model_copy(update={"address": kept.address, "password": kept.password, "tender": known.tender})


async def _try(cameras: Cameras, what: w.CameraTest) -> w.CameraTried:
    said, frame = await cameras.ask(what.tender, TryCamera(id=new_question(), what=what))
    if said.problem or frame is None:
        shown = without_secrets(parse_camera_address(what.address).url)
        raise ApiProblem(502, f"{shown}: {said.problem or 'no frame came'}")
    return w.CameraTried(
        width=frame.head.width, height=frame.head.height, size=len(frame.jpeg), took_s=said.took_s,
        warning=said.warning, jpeg=base64.b64encode(frame.jpeg).decode(),
    )  # fmt: skip


@router.get("/local-cameras")
async def local_cameras(cameras: TheCameras, tender: Annotated[Label, Query()] = "tender") -> list[w.LocalCamera]:
    """Cameras at a tender's own computer, by their stable paths, and which of them are set up already."""
    said, _ = await cameras.ask(tender, ListLocal(id=new_question()))
    if said.problem:
        raise ApiProblem(502, f"The tender {tender} cannot list its cameras: {said.problem}")
    taken = {k.row.shown: k.row.name for k in cameras.all() if k.tender == tender}
    return [found.model_copy(update={"camera": taken.get(found.address, "")}) for found in said.local]
