"""Cameras: how they are set up, and their newest frames."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query, Response

from chronarch.core.bounds import Named
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.problems import ApiProblem
from chronarch.service.watching.camera_list import TheCameraList
from chronarch.service.watching.cameras import TheCameras
from chronarch.wire.common import RequestDone
from chronarch.wire.watching import cameras as w
from chronarch.wire.watching.camera_messages import Size

router = APIRouter(tags=["cameras"], route_class=RetryingRoute)


@router.get("/cameras")
async def cameras(cameras: TheCameras) -> list[w.Camera]:
    """All cameras as they are now, by name."""
    return [cameras.view(known) for known in cameras.all()]


@router.post("/cameras", status_code=201)
async def add_camera(asked: w.NewCamera, cameras: TheCameras, changing: TheCameraList) -> w.Camera:
    """Add a camera. Its tender is told at once if it is connected."""
    return cameras.view(await changing.add(asked))


@router.get("/cameras/{name}")
async def camera(name: Named, cameras: TheCameras) -> w.Camera:
    return cameras.view(cameras.find(name))


@router.patch("/cameras/{name}")
async def change_camera(name: Named, change: w.CameraChange, cameras: TheCameras, changing: TheCameraList) -> w.Camera:
    """Change how a camera is set up. A password is kept only as long as the address stays."""
    return cameras.view(await changing.change(name, change))


@router.delete("/cameras/{name}")
async def remove_camera(name: Named, changing: TheCameraList) -> RequestDone:
    """Remove a camera; where it stood for its machine, another of that machine does so from now on."""
    return RequestDone(text=f"{await changing.remove(name)} is removed")


@router.get("/cameras/{name}/frame", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def frame(name: Named, cameras: TheCameras, size: Annotated[Size, Query()] = "full") -> Response:
    """The newest frame, a JPEG; a small one has 480 pixels at most."""
    known = cameras.find(name)
    newest = known.frame(size)
    if newest is None:
        why = known.trouble.text if known.trouble else "none has come yet"
        raise ApiProblem(404, f"There is no frame of {known.row.name}: {why}.")
    headers = {"Cache-Control": "no-store", "X-Taken-At": newest.head.at.isoformat()}
    return Response(newest.jpeg, media_type="image/jpeg", headers=headers)
