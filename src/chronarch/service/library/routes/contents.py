"""What a content looks like, by its hash: its layers, the whole part, drawings, pictures, its text."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from fastapi import APIRouter, Query, Response
from fastapi.responses import FileResponse
from sqlalchemy import select

from chronarch.core.bounds import LayerNumber, Number, Word
from chronarch.core.gcode.contents import Layer
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.contents import known_content, model_for, reading_of
from chronarch.service.library.readers import TheContentReaders
from chronarch.service.problems import ApiProblem
from chronarch.wire import gcode as w
from chronarch.wire.common import Hash

router = APIRouter(tags=["contents"], prefix="/contents/{sha256}", route_class=RetryingRoute)
FOREVER = {"Cache-Control": "private, max-age=31536000, immutable"}
BINARY: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}


@router.get("", response_class=FileResponse)
async def whole(sha256: Hash, store: TheContentStore) -> FileResponse:
    """The bytes themselves."""
    return FileResponse(
        store.path(known_content(store, sha256)), media_type="text/x.gcode", filename=f"{sha256[:12]}.gcode"
    )


@router.get("/reading")
async def reading(sha256: Hash, context: Context, model: Word = "") -> w.FileReading:
    """What it says for a model."""
    name, _ = await model_for(context, model)
    async with context.sessions() as db:
        return await reading_of(db, sha256, name)


@router.get("/layers")
async def layers(
    sha256: Hash, context: Context, store: TheContentStore, readers: TheContentReaders, model: Word = ""
) -> list[Layer]:
    """The table of its layers."""
    _, figures = await model_for(context, model)
    return await readers.table(store.path(known_content(store, sha256)), store.derived(sha256), figures)


@router.get("/layers/{layer:record}", response_class=Response, responses=BINARY)
async def layer(
    sha256: Hash,
    layer: LayerNumber,
    context: Context,
    store: TheContentStore,
    readers: TheContentReaders,
    model: Word = "",
) -> Response:
    """One layer's moves in binary (docs/protocols/layers.md); 0 is what comes before the first."""
    _, figures = await model_for(context, model)
    path, derived = store.path(known_content(store, sha256)), store.derived(sha256)
    try:
        data = await readers.layer(path, derived, figures, layer)
    except IndexError:
        raise ApiProblem(404, f"The file has no layer {layer}.") from None
    return Response(data, media_type="application/octet-stream", headers=FOREVER)


@router.get("/shape", response_class=Response, responses=BINARY)
async def shape(
    sha256: Hash, context: Context, store: TheContentStore, readers: TheContentReaders, model: Word = ""
) -> Response:
    """Everything that is laid, thinned out, in binary (docs/protocols/layers.md)."""
    _, figures = await model_for(context, model)
    data = await readers.shape(store.path(known_content(store, sha256)), store.derived(sha256), figures)
    return Response(data, media_type="application/octet-stream", headers=FOREVER)


@router.get(
    "/drawing.{kind}", response_class=Response, responses={200: {"content": {"image/png": {}, "image/svg+xml": {}}}}
)
async def drawing(
    sha256: Hash,
    kind: Literal["png", "svg"],
    context: Context,
    store: TheContentStore,
    readers: TheContentReaders,
    model: Word = "",
    layer: LayerNumber | None = None,
    title: Annotated[str, Query(max_length=120)] = "",
) -> Response:
    """A picture: one layer from above on its bed, or the whole part from a corner."""
    name, figures = await model_for(context, model)
    async with context.sessions() as db:
        said = await reading_of(db, sha256, name)
    if layer is not None and not 1 <= layer <= said.layers:
        raise ApiProblem(404, f"The file has layers 1 to {said.layers}; {layer} is none of them.")
    kept = store.path(sha256), store.derived(sha256)
    data = await readers.drawing(*kept, figures, layer, kind, title, tuple(said.objects))
    return Response(data, media_type="image/png" if kind == "png" else "image/svg+xml")


@router.get("/picture", response_class=FileResponse)
async def picture(
    sha256: Hash,
    context: Context,
    store: TheContentStore,
    width: Annotated[int, Query(ge=1, le=10_000)] = 200,
) -> FileResponse:
    """The thumbnail from the slicer whose width in pixels is nearest."""
    async with context.sessions() as db:
        row = await db.execute(select(t.ContentReading).where(t.ContentReading.sha256 == sha256).limit(1))
        found = row.scalar_one_or_none()
    pictures = [w.FilePicture.model_validate(p) for p in found.figures["pictures"]] if found else []
    if not pictures:
        raise ApiProblem(404, "The slicer left no picture in this file.")
    best = min(pictures, key=lambda p: abs(p.width - width))
    path = store.derived(sha256) / f"{best.width}x{best.height}.{best.kind.partition('/')[2]}"
    if not path.exists():
        raise ApiProblem(404, "The picture is gone; it comes back when the file is read again.")
    return FileResponse(path, media_type=best.kind, headers=FOREVER)


@router.get("/text")
async def text(
    sha256: Hash,
    store: TheContentStore,
    readers: TheContentReaders,
    first: Number = 1,
    count: Annotated[int, Query(ge=1, le=2000)] = 200,
) -> w.FileLines:
    """Some lines of it."""
    lines, total = await readers.text(store.path(known_content(store, sha256)), first, count)
    return w.FileLines(first=first, lines=lines, total=total)
