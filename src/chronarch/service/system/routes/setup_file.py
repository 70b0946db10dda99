"""The shop's set-up as a file."""

from __future__ import annotations

from fastapi import APIRouter, Response

from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.system.setup_file import TheSetupFile
from chronarch.wire.system.setup_file import SetupDone, SetupText

router = APIRouter(tags=["setup"], route_class=RetryingRoute)
MEDIA = "application/toml"


@router.get("/setup-file", response_class=Response, responses={200: {"content": {MEDIA: {}}}})
async def setup_file(file: TheSetupFile) -> Response:
    """All that the shop has decided, as TOML: what `POST` takes."""
    named = {"Content-Disposition": 'attachment; filename="shop.toml"'}
    return Response(await file.text(), media_type=MEDIA, headers=named)


@router.post("/setup-file")
async def apply_setup_file(asked: SetupText, who: Caller, file: TheSetupFile) -> SetupDone:
    """Have the shop be as a file says; what is left out stays. Applied again it changes nothing. With `dry_run` it is
    only said what would change."""
    return await file.apply(asked, who.signature)
