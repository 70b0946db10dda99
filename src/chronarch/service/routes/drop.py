"""Dropping files off: raw (PUT) or as a form (POST), queued in the same call where that is wished."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, File, Form, Header, Query, Request, Response, UploadFile
from pydantic import BaseModel
from sqlalchemy import select

from chronarch.core.bounds import Number, Word
from chronarch.core.gcode.packed import plain_name
from chronarch.core.names import check_folder, check_name
from chronarch.records import library
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader, Who
from chronarch.service.again import AgainRoute
from chronarch.service.blobs import Received
from chronarch.service.once import Note, fingerprint, once
from chronarch.service.openapi import body
from chronarch.service.problems import Refused
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import library as w
from chronarch.wire.common import Label

router = APIRouter(tags=["files"], route_class=AgainRoute)
ANSWER_WITHIN_S = 20.0
PIECE = 1 << 20
_DIGEST = re.compile(r"sha-256=:([A-Za-z0-9+/=]+):")
Answers = {200: {"model": w.Dropped}, 201: {"model": w.Dropped}, 202: {"model": w.Arrival}}


def _digest_of(header: str) -> str:
    """The SHA-256 (hex) a Content-Digest header (RFC 9530) names. Raises Refused (400)."""
    found = _DIGEST.search(header)
    try:
        if found is None:
            raise ValueError
        return base64.b64decode(found[1], validate=True).hex()
    except (binascii.Error, ValueError):
        raise Refused(400, "Content-Digest must read sha-256=:BASE64: (RFC 9530), or be left out.") from None


@router.put(
    "/drop/{name:path}",
    status_code=201,
    response_model=w.Dropped,
    responses=Answers,  # type: ignore[arg-type]
    openapi_extra=body("text/x.gcode", "application/gzip", "application/zstd"),
)
async def drop_raw(
    name: Word,
    request: Request,
    who: Operator,
    shop: TheShop,
    asked: Annotated[w.DropWish, Query()],
    content_digest: Annotated[Word | None, Header()] = None,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """Add a sliced file; its bytes are the body, plain, gzip or zstd, and `name` may begin with its folder. A changed
    file of the same name is a new revision (201); the same content again changes nothing (200). With `queue`, copies
    of it are queued too. Takes the reading longer than 20 s, the answer is the arrival (202), which tells how far it
    is."""
    wanted = _digest_of(content_digest) if content_digest else None
    received = await shop.intake.receive(request.stream())
    if wanted is not None and wanted not in (received.sent_sha256, received.sha256):
        received.path.unlink(missing_ok=True)
        raise Refused(422, "The file did not arrive whole: its hash is not the one announced. Send it again.")
    return await _drop(shop, received, name, asked.folder, asked.queued(), who, idempotency_key)


@router.post("/drop", status_code=201, response_model=w.Dropped, responses=Answers)  # type: ignore[arg-type]
async def drop_form(
    who: Operator,
    shop: TheShop,
    file: Annotated[UploadFile, File()],
    folder: Annotated[Word, Form()] = "",
    queue: Annotated[bool, Form()] = False,
    copies: Annotated[int, Form(ge=1, le=10_000)] = 1,
    material: Annotated[Label, Form()] = "",
    colour: Annotated[Label, Form()] = "",
    machine: Annotated[Label, Form()] = "",
    model: Annotated[Label, Form()] = "",
    held: Annotated[bool, Form()] = False,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """The same as a form (multipart/form-data) with the file in `file`, as slicers and scripts send it."""

    async def pieces() -> AsyncIterator[bytes]:
        while piece := await file.read(PIECE):
            yield piece

    received = await shop.intake.receive(pieces())
    wish = w.QueueWish(copies=copies, material=material, colour=colour, machine=machine, model=model, held=held)
    return await _drop(shop, received, file.filename or "", folder, wish if queue else None, who, idempotency_key)


async def _drop(
    shop: Shop, received: Received, name: str, folder: str, wish: w.QueueWish | None, who: Who, key: str | None
) -> Response:
    try:
        if "/" in name and not folder:
            folder, _, name = name.rpartition("/")
        name, folder = check_name(plain_name(name) if received.packed else name), check_folder(folder)
        if wish is not None and wish.machine:
            wish.machine = shop.fleet.find(wish.machine).row.name
        asked = wish.model_dump_json() if wish is not None else ""

        async def work(note: Note) -> tuple[int, BaseModel]:
            queue = wish.model_dump() if wish is not None else None
            number = await shop.intake.take(received, name, who.signature, note, folder=folder, queue=queue)
            return await resume(str(number))

        async def resume(number: str) -> tuple[int, BaseModel]:
            return await answer_of(shop, await shop.intake.settled(int(number), ANSWER_WITHIN_S))

        return await once(
            shop, who.identity, key, fingerprint("drop", name, folder, asked, received.sha256), work, resume
        )
    finally:
        received.path.unlink(missing_ok=True)


async def answer_of(shop: Shop, row: t.Arrival) -> tuple[int, BaseModel]:
    """What came of an arrival: status and body. Raises Refused (422) when it was refused."""
    if row.state == "refused":
        raise Refused(422, row.problem)
    if row.state == "reading" or row.file_id is None:
        return 202, _arrival(shop, row)
    async with shop.sessions() as db:
        kept = await library.find(db, row.file_id, binned=True)
        if kept is None:
            raise Refused(404, f"{row.name} was added and has been thrown away since.")
        file = library.file_wire(kept, await shop.paces(db))
        alike = await library.alike(db, t.File.name, file.name, t.File.folder == file.folder) if row.new else []
    return (201 if row.new else 200), w.Dropped(file=file, job=row.job_id, new=row.new, alike=alike)


def _arrival(shop: Shop, row: t.Arrival) -> w.Arrival:
    return w.Arrival(
        id=row.id,
        name=row.name,
        size=row.size,
        state=row.state,
        progress=shop.intake.progress(row),
        problem=row.problem,
        file=row.file_id,
        job=row.job_id,
        added_at=row.added_at,
        added_by=row.added_by,
    )


@router.get("/arrivals")
async def arrivals(who: Reader, shop: TheShop) -> list[w.Arrival]:
    """Files that are being read now, and how far each is."""
    async with shop.sessions() as db:
        rows = (
            await db.execute(select(t.Arrival).where(t.Arrival.state == "reading").order_by(t.Arrival.id))
        ).scalars()
        return [_arrival(shop, row) for row in rows]


@router.get("/arrivals/{number:record}")
async def arrival(number: Number, who: Reader, shop: TheShop) -> w.Arrival:
    """One of them, also after it was added or refused."""
    async with shop.sessions() as db:
        row = await db.get(t.Arrival, number)
        if row is None:
            raise Refused(404, f"Nothing arrived with the number {number}.")
        return _arrival(shop, row)
