"""Adding files: raw (PUT) or as a form (POST), queued in the same call if asked."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, File, Form, Header, Query, Request, Response, UploadFile
from pydantic import ValidationError
from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Number, Word
from chronarch.records import paging
from chronarch.records import tables as t
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.openapi import body
from chronarch.service.http.paging import ManyPaged
from chronarch.service.http.patience import Patience
from chronarch.service.http.views import TheViews
from chronarch.service.library.arrivals import arrival_wire
from chronarch.service.library.dropping import TheDropping
from chronarch.service.library.intake import TheIntake
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import Label, faults_of

router = APIRouter(tags=["files"], route_class=RetryingRoute)
PIECE = 1 << 20
_DIGEST = re.compile(r"sha-256=:([A-Za-z0-9+/=]+):")
Answers = {200: {"model": w.Dropped}, 201: {"model": w.Dropped}, 202: {"model": w.Arrival}}


def _digest_of(header: str) -> str:
    """The SHA-256 (hex) a Content-Digest header (RFC 9530) names. Raises ApiProblem (400)."""
    found = _DIGEST.search(header)
    try:
        if found is None:
            raise ValueError
        return base64.b64decode(found[1], validate=True).hex()
    except (binascii.Error, ValueError):
        raise ApiProblem(400, "Content-Digest must read sha-256=:BASE64: (RFC 9530), or be left out.") from None


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
    who: Caller,
    dropping: TheDropping,
    asked: Annotated[w.DropWish, Query()],
    patience: Patience,
    content_digest: Annotated[Word | None, Header()] = None,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """Add a sliced file. Its bytes are the body, plain, gzip or zstd, and `name` may begin with its folder. A changed
    file of the same name is a new revision (201); the same content again changes nothing (200). With `queue`, copies of
    it are queued too. If reading takes longer than 20 s, or than a `Prefer: wait=60` (RFC 7240, at most 120 s) says,
    the answer is the arrival (202), which says how far it is."""
    wanted = _digest_of(content_digest) if content_digest else None
    received = await dropping.intake.receive(request.stream())
    if wanted is not None and wanted not in (received.sent_sha256, received.sha256):
        received.path.unlink(missing_ok=True)
        raise ApiProblem(422, "The file did not arrive whole: its hash is not the one announced. Send it again.")
    return await dropping.take(received, name, asked, who, idempotency_key, patience)


@router.post("/drop", status_code=201, response_model=w.Dropped, responses=Answers)  # type: ignore[arg-type]
async def drop_form(
    who: Caller,
    dropping: TheDropping,
    patience: Patience,
    file: Annotated[UploadFile, File()],
    folder: Annotated[Word, Form()] = "",
    queue: Annotated[bool, Form()] = False,
    copies: Annotated[int, Form(ge=1, le=10_000)] = 1,
    material: Annotated[Label, Form()] = "",
    colour: Annotated[Label, Form()] = "",
    machine: Annotated[Label, Form()] = "",
    model: Annotated[Label, Form()] = "",
    held: Annotated[bool, Form()] = False,
    now: Annotated[bool, Form()] = False,
    idempotency_key: Annotated[Word | None, Header()] = None,
) -> Response:
    """The same as a form (multipart/form-data) with the file in `file`, as slicers and scripts send it."""

    async def pieces() -> AsyncIterator[bytes]:
        while piece := await file.read(PIECE):
            yield piece

    try:
        asked = w.DropWish(
            folder=folder, queue=queue, copies=copies, material=material, colour=colour, machine=machine, model=model,
            held=held, now=now,
        )  # fmt: skip
    except ValidationError as error:
        raise ApiProblem(422, faults_of(error)) from None
    received = await dropping.intake.receive(pieces())
    return await dropping.take(received, file.filename or "", asked, who, idempotency_key, patience)


@router.get("/arrivals", response_model=list[w.Arrival])
async def arrivals(request: Request, page: ManyPaged, intake: TheIntake, views: TheViews) -> Response:
    """Files that are being read now, and how far each is."""
    query = page.of(select(t.Arrival).where(t.Arrival.state == "reading"), paging.number(t.Arrival.id))

    async def work(db: AsyncSession) -> list[w.Arrival]:
        rows = page.cut((await db.execute(query)).scalars().all(), lambda row: (row.id,))
        return [arrival_wire(intake, row) for row in rows]

    return await views.read(request, list[w.Arrival], work, None, page, good_for_s=0.0)


@router.get("/arrivals/{number:record}")
async def arrival(number: Number, context: Context, intake: TheIntake) -> w.Arrival:
    """One of them, also after it was added or refused."""
    async with context.sessions() as db:
        row = await db.get(t.Arrival, number)
        if row is None:
            raise ApiProblem(404, f"Nothing arrived with the number {number}.")
        return arrival_wire(intake, row)
