"""What a content looks like, by its hash: its layers, the whole part, drawings, pictures, its text."""

from __future__ import annotations

import re
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Response
from fastapi.responses import FileResponse
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import LayerNumber, Number, Word
from chronarch.core.fleet import MachineModel
from chronarch.records import library
from chronarch.records import tables as t
from chronarch.service.access import Reader
from chronarch.service.again import AgainRoute
from chronarch.service.intake import core_models
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import library as w
from chronarch.wire.common import Hash

router = APIRouter(tags=["contents"], prefix="/contents/{sha256}", route_class=AgainRoute)
FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}
BINARY: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}


async def model_for(shop: Shop, name: str) -> tuple[str, MachineModel]:
    """A model by name; the first, or the reference, without one. Raises Refused (404)."""
    async with shop.sessions() as db:
        models = core_models(await library.models_of(db))
    if not name:
        return next(iter(models.items()))
    if name not in models:
        raise Refused(404, f"There is no model named {name!r}; there are: {', '.join(models)}.")
    return name, models[name]


async def reading_of(db: AsyncSession, sha256: str, model: str) -> w.FileReading:
    """Raises Refused (404)."""
    row = await db.get(t.ContentReading, (sha256, model)) if re.fullmatch(r"[0-9a-f]{64}", sha256) else None
    if row is None:
        raise Refused(404, f"There is no reading of {sha256[:64]!r} for {model or 'the reference'}.")
    return w.FileReading.model_validate(row.figures)


def _known(shop: Shop, sha256: str) -> str:
    if not re.fullmatch(r"[0-9a-f]{64}", sha256) or not shop.blobs.path(sha256).exists():
        raise Refused(404, f"There is nothing kept under {sha256[:64]!r}.")
    return sha256


@router.get("", response_class=FileResponse)
async def whole(sha256: Hash, who: Reader, shop: TheShop) -> FileResponse:
    """The bytes themselves."""
    return FileResponse(
        shop.blobs.path(_known(shop, sha256)), media_type="text/x.gcode", filename=f"{sha256[:12]}.gcode"
    )


@router.get("/reading")
async def reading(sha256: Hash, who: Reader, shop: TheShop, model: Word = "") -> w.FileReading:
    """What it says for a model."""
    name, _ = await model_for(shop, model)
    async with shop.sessions() as db:
        return await reading_of(db, sha256, name)


@router.get("/layers")
async def layers(sha256: Hash, who: Reader, shop: TheShop, model: Word = "") -> list[w.LayerRow]:
    """The table of its layers."""
    _, figures = await model_for(shop, model)
    return await shop.readers.table(shop.blobs.path(_known(shop, sha256)), shop.blobs.derived(sha256), figures)


@router.get("/layers/{layer:record}", response_class=Response, responses=BINARY)
async def layer(sha256: Hash, layer: LayerNumber, who: Reader, shop: TheShop, model: Word = "") -> Response:
    """One layer's moves in binary (docs/protocols/layers.md); 0 is what comes before the first."""
    _, figures = await model_for(shop, model)
    path, derived = shop.blobs.path(_known(shop, sha256)), shop.blobs.derived(sha256)
    try:
        data = await shop.readers.layer(path, derived, figures, layer)
    except IndexError:
        raise Refused(404, f"The file has no layer {layer}.") from None
    return Response(data, media_type="application/octet-stream", headers=FOREVER)


@router.get("/shape", response_class=Response, responses=BINARY)
async def shape(sha256: Hash, who: Reader, shop: TheShop, model: Word = "") -> Response:
    """All that is laid, thinned, in binary (docs/protocols/layers.md)."""
    _, figures = await model_for(shop, model)
    data = await shop.readers.shape(shop.blobs.path(_known(shop, sha256)), shop.blobs.derived(sha256), figures)
    return Response(data, media_type="application/octet-stream", headers=FOREVER)


@router.get(
    "/drawing.{kind}", response_class=Response, responses={200: {"content": {"image/png": {}, "image/svg+xml": {}}}}
)
async def drawing(
    sha256: Hash,
    kind: Literal["png", "svg"],
    who: Reader,
    shop: TheShop,
    model: Word = "",
    layer: LayerNumber | None = None,
    title: Annotated[str, Query(max_length=120)] = "",
) -> Response:
    """A picture: one layer from above on its bed, or the whole part from a corner."""
    name, figures = await model_for(shop, model)
    async with shop.sessions() as db:
        said = await reading_of(db, sha256, name)
    if layer is not None and not 1 <= layer <= said.layers:
        raise Refused(404, f"The file has layers 1 to {said.layers}; {layer} is none of them.")
    objects = [o.model_dump() for o in said.objects]
    data = await shop.readers.drawing(
        shop.blobs.path(sha256), shop.blobs.derived(sha256), figures, layer, kind, title, objects
    )
    return Response(data, media_type="image/png" if kind == "png" else "image/svg+xml")


@router.get("/picture", response_class=FileResponse)
async def picture(
    sha256: Hash, who: Reader, shop: TheShop, width: Annotated[int, Query(ge=1, le=10_000)] = 200
) -> FileResponse:
    """The thumbnail the slicer left that is nearest a width in pixels."""
    async with shop.sessions() as db:
        row = await db.execute(select(t.ContentReading).where(t.ContentReading.sha256 == sha256).limit(1))
        found = row.scalar_one_or_none()
    pictures = [w.Picture.model_validate(p) for p in found.figures["pictures"]] if found else []
    if not pictures:
        raise Refused(404, "The slicer left no picture in this file.")
    best = min(pictures, key=lambda p: abs(p.width - width))
    path = shop.blobs.derived(sha256) / f"{best.width}x{best.height}.{best.kind.partition('/')[2]}"
    if not path.exists():
        raise Refused(404, "The picture is gone; it comes back when the file is read again.")
    return FileResponse(path, media_type=best.kind, headers=FOREVER)


@router.get("/text")
async def text(
    sha256: Hash,
    who: Reader,
    shop: TheShop,
    first: Number = 1,
    count: Annotated[int, Query(ge=1, le=2000)] = 200,
) -> w.Lines:
    """Some of its lines."""
    lines, total = await shop.readers.text(shop.blobs.path(_known(shop, sha256)), first, count)
    return w.Lines(first=first, lines=lines, total=total)
