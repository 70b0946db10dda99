"""Camera frames."""

from __future__ import annotations

from fastapi import APIRouter, Request, Response

from chronarch.core.bounds import Named
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire.common import RequestDone

router = APIRouter(tags=["machines"], route_class=RetryingRoute)
routers = (router,)

LARGEST_FRAME = 4_000_000


@router.get("/machines/{name}/frame", response_class=Response, responses={200: {"content": {"image/jpeg": {}}}})
async def frame(name: Named, fleet: TheFleet) -> Response:
    """The newest camera frame, a JPEG."""
    known = fleet.find(name)
    if not known.frame:
        raise ApiProblem(404, f"There is no frame of {known.row.name} yet.")
    taken = known.frame_at.isoformat() if known.frame_at else ""
    return Response(known.frame, media_type="image/jpeg", headers={"Cache-Control": "no-store", "X-Taken-At": taken})


@router.put("/machines/{name}/frame", openapi_extra=body("image/jpeg"))
async def put_frame(name: Named, request: Request, who: Caller, context: Context, fleet: TheFleet) -> RequestDone:
    """A tender's newest frame of one of its machines."""
    known = fleet.in_care_of(who.tender, name)
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > LARGEST_FRAME:
            raise ApiProblem(413, f"A frame may have {LARGEST_FRAME // 1_000_000} MB; lower the camera's resolution.")
    if not body.startswith(b"\xff\xd8\xff"):
        raise ApiProblem(415, "A frame must be a JPEG.")
    known.frame, known.frame_at = bytes(body), context.clock.now()
    fleet.publish(known)
    return RequestDone(text="kept")
