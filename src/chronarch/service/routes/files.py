"""The library: adding files, listing them, giving them out."""

from __future__ import annotations

import base64
import binascii
import re
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy import select
from sqlalchemy.exc import IntegrityError

from chronarch.core.fleet import MachineModel
from chronarch.core.names import check_name
from chronarch.records import queries
from chronarch.records import tables as t
from chronarch.service.access import Operator, Reader, TenderKey
from chronarch.service.problems import Refused
from chronarch.service.reading import record
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import machines as wm
from chronarch.wire import work as w

router = APIRouter(tags=["files"])
_DIGEST = re.compile(r"sha-256=:([A-Za-z0-9+/=]+):")


def _digest_of(header: str) -> str:
    """The SHA-256 (hex) a Content-Digest header (RFC 9530) names. Raises Refused (400)."""
    found = _DIGEST.search(header)
    try:
        if found is None:
            raise ValueError
        return base64.b64decode(found[1], validate=True).hex()
    except (binascii.Error, ValueError):
        raise Refused(400, "Content-Digest must read sha-256=:BASE64: (RFC 9530), or be left out.") from None


@router.post(
    "/files",
    status_code=201,
    openapi_extra={"requestBody": {"content": {"text/x.gcode": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def add_file(
    request: Request,
    response: Response,
    who: Operator,
    shop: TheShop,
    name: Annotated[str, Query(examples=["bobbin-32.gcode"])],
    content_digest: Annotated[str | None, Header()] = None,
) -> w.File:
    """Add a sliced file: its bytes are the body. The same bytes under the same name again change nothing (200)."""
    name = check_name(name)
    wanted = _digest_of(content_digest) if content_digest else None
    arrived, sha256, size = await shop.blobs.receive(request.stream(), shop.settings.largest_file)
    try:
        if wanted is not None and wanted != sha256:
            raise Refused(422, "The file did not arrive whole: its hash is not the one announced. Send it again.")
        row, new = await _keep(shop, arrived, name, sha256, size, who.name)
    finally:
        arrived.unlink(missing_ok=True)
    response.status_code = 201 if new else 200
    shop.hub.changed("files")
    return queries.file_wire(row)


async def _keep(shop: Shop, arrived: Path, name: str, sha256: str, size: int, by: str) -> tuple[t.File, bool]:
    async with shop.sessions() as db:
        there = (await db.execute(select(t.File).where(t.File.name == name))).scalar_one_or_none()
        if there is not None:
            return _same(there, sha256), False
        analysis = await shop.readers.read(arrived, await _reference_model(shop))
        reading, plan = record(analysis, size)
        shop.blobs.keep(arrived, sha256)
        if await db.get(t.Blob, sha256) is None:
            db.add(t.Blob(sha256=sha256, size=size))
            await db.flush()
        row = t.File(name=name, sha256=sha256, added_at=shop.clock.now(), added_by=by, reading=reading, plan=plan)
        db.add(row)
        try:
            await db.commit()
        except IntegrityError:
            await db.rollback()
            there = (await db.execute(select(t.File).where(t.File.name == name))).scalar_one_or_none()
            if there is None:
                raise Refused(409, "The same file was added twice at one moment; add it again.") from None
            return _same(there, sha256), False
        return row, True


def _same(there: t.File, sha256: str) -> t.File:
    if there.sha256 != sha256:
        raise Refused(409, f"There is a file named {there.name!r} with other content already; give this another name.")
    return there


async def _reference_model(shop: Shop) -> MachineModel:
    """Whose figures a file is read by: the first model's; the built-in ones while there is none."""
    async with shop.sessions() as db:
        row = (await db.execute(select(t.Model).order_by(t.Model.id).limit(1))).scalar_one_or_none()
    return wm.Model.model_validate(row.spec).core() if row else MachineModel("reference")


@router.get("/files")
async def files(who: Reader, shop: TheShop) -> list[w.File]:
    """All files, newest first."""
    async with shop.sessions() as db:
        return [
            queries.file_wire(row) for row in (await db.execute(select(t.File).order_by(t.File.id.desc()))).scalars()
        ]


@router.get("/files/{which}")
async def file(which: str, who: Reader, shop: TheShop) -> w.File:
    """One file, by number or name."""
    return queries.file_wire(await _find(shop, which))


@router.get("/files/{which}/content", response_class=FileResponse)
async def content(which: str, who: Reader, shop: TheShop) -> FileResponse:
    """The file's bytes."""
    row = await _find(shop, which)
    return FileResponse(shop.blobs.path(row.sha256), media_type="text/x.gcode", filename=row.name)


async def _find(shop: Shop, which: str) -> t.File:
    async with shop.sessions() as db:
        row = await queries.find_file(db, which)
    if row is None:
        raise Refused(404, f"There is no file {which!r}; `chronarch files list` shows all.")
    return row


@router.get("/blobs/{sha256}", response_class=FileResponse)
async def blob(sha256: str, who: TenderKey, shop: TheShop) -> FileResponse:
    """A file's bytes by their hash, for tenders."""
    path = shop.blobs.path(sha256)
    if not re.fullmatch(r"[0-9a-f]{64}", sha256) or not path.exists():
        raise Refused(404, f"There is nothing kept under {sha256[:64]!r}.")
    return FileResponse(path, media_type="application/octet-stream")
