"""Edits that make a new revision, and how two revisions differ."""

from __future__ import annotations

import hashlib

from fastapi import APIRouter

from chronarch.core.bounds import Named, Number, Word
from chronarch.records.library import Kept
from chronarch.service.access import Operator, Reader
from chronarch.service.again import AgainRoute
from chronarch.service.blobs import Received
from chronarch.service.problems import Refused
from chronarch.service.routes.contents import model_for, reading_of
from chronarch.service.routes.drop import answer_of
from chronarch.service.routes.files import find_file
from chronarch.service.shop import Shop, TheShop
from chronarch.wire import library as w

router = APIRouter(tags=["edits"], prefix="/files/{which}", route_class=AgainRoute)


async def _kept(shop: Shop, which: str, order: w.EditOrder) -> Kept:
    async with shop.sessions() as db:
        return await find_file(db, which, binned=False, revision=order.revision)


@router.post("/preview")
async def preview(which: Named, order: w.EditOrder, who: Reader, shop: TheShop) -> w.EditPreview:
    """What an edit would change, in lines and in time and material. Nothing is kept."""
    kept = await _kept(shop, which, order)
    _, figures = await model_for(shop, order.model)
    return await shop.readers.preview(shop.blobs.path(kept.revision.sha256), figures, order.edit)


@router.post("/edit", status_code=201)
async def edit(which: Named, order: w.EditOrder, who: Operator, shop: TheShop) -> w.File:
    """Make an edit: its result is the file's newest revision."""
    kept = await _kept(shop, which, order)
    _, figures = await model_for(shop, order.model)
    out = shop.blobs.new_path()
    try:
        done = await shop.readers.preview(shop.blobs.path(kept.revision.sha256), figures, order.edit, out)
        with out.open("rb") as source:
            sha256 = hashlib.file_digest(source, "sha256").hexdigest()
        if sha256 == kept.revision.sha256:
            raise Refused(409, "The edit changes nothing in this file.")
        received = Received(out, sha256, out.stat().st_size, sha256)
        how = f"from revision {kept.revision.number}: {done.text}"
        number = await shop.intake.take(received, kept.file.name, who.signature, how=how)
        _, body = await answer_of(shop, await shop.intake.settled(number, 600))
    finally:
        out.unlink(missing_ok=True)
    if not isinstance(body, w.Dropped):
        raise Refused(503, "The new revision is still being read; it will appear in the library.")
    return body.file


@router.get("/difference")
async def difference(
    which: Named, who: Reader, shop: TheShop, earlier: Number, later: Number | None = None, model: Word = ""
) -> w.Difference:
    """How a revision (the newest without one) differs from an earlier one."""
    name, figures = await model_for(shop, model)
    async with shop.sessions() as db:
        new = await find_file(db, which, revision=later)
        old = await find_file(db, str(new.file.id), revision=earlier)
        old_reading = await reading_of(db, old.revision.sha256, name)
        new_reading = await reading_of(db, new.revision.sha256, name)
    found = await shop.readers.difference(
        shop.blobs.path(old.revision.sha256),
        shop.blobs.path(new.revision.sha256),
        shop.blobs.derived(new.revision.sha256),
        figures,
    )
    return w.Difference(
        earlier=old.revision.number,
        later=new.revision.number,
        earlier_reading=old_reading,
        later_reading=new_reading,
        **found,
    )
