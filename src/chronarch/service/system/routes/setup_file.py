"""The shop's set-up as a file."""

from __future__ import annotations

from typing import Any

from fastapi import APIRouter, Response

from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.permissions import Caller
from chronarch.service.system.setup_file import TheSetupFile
from chronarch.service.system.setup_formats import catalogue_schema
from chronarch.wire.system.setup_file import SetupDone, SetupFormat, SetupText

router = APIRouter(tags=["setup"], route_class=RetryingRoute)
FILES = {
    SetupFormat.TOML: ("application/toml", "shop.toml"),
    SetupFormat.CSV: ("text/csv", "machines.csv"),
    SetupFormat.JSON: ("application/json", "catalogue.json"),
}
"""The media type of a format, and how a file of it is called."""


@router.get(
    "/setup-file",
    response_class=Response,
    responses={200: {"content": {media: {} for media, _ in FILES.values()}}},
)
async def setup_file(file: TheSetupFile, format: SetupFormat = SetupFormat.TOML) -> Response:
    """What the shop has decided, as `POST` takes it: all of it as TOML, the machines as CSV, or models and materials as
    JSON."""
    media, name = FILES[format]
    named = {"Content-Disposition": f'attachment; filename="{name}"'}
    return Response(await file.text(format), media_type=media, headers=named)


@router.get("/setup-file/schema")
async def setup_schema() -> dict[str, Any]:
    """The JSON Schema (2020-12) of a catalogue."""
    return catalogue_schema()


@router.post("/setup-file")
async def apply_setup_file(asked: SetupText, who: Caller, file: TheSetupFile) -> SetupDone:
    """Have the shop be as a file says; what is left out stays. Applied again it changes nothing. With `dry_run` it is
    only said what would change."""
    return await file.apply(asked, who.signature)
