"""Edits that make a new revision, and how two revisions differ."""

from __future__ import annotations

import hashlib

from fastapi import APIRouter

from chronarch.core.bounds import Named, Number, Word
from chronarch.records.library.files import FileWithReadings
from chronarch.service.context import Context, ServiceContext
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.library.arrivals import answer_of
from chronarch.service.library.content_store import Received, TheContentStore
from chronarch.service.library.contents import model_for, reading_of
from chronarch.service.library.finding import find_file
from chronarch.service.library.intake import TheIntake
from chronarch.service.library.readers import TheContentReaders
from chronarch.service.machines.learned_paces import TheLearnedPaces
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import gcode as w
from chronarch.wire.library import Dropped, File

router = APIRouter(tags=["edits"], prefix="/files/{which}", route_class=RetryingRoute)


async def _kept(context: ServiceContext, which: str, asked: w.EditRequest) -> FileWithReadings:
    async with context.sessions() as db:
        return await find_file(db, which, binned=False, revision=asked.revision)


@router.post("/preview")
async def preview(
    which: Named,
    asked: w.EditRequest,
    context: Context,
    store: TheContentStore,
    readers: TheContentReaders,
) -> w.EditPreview:
    """What an edit would change, in lines and in time and material. Nothing is kept."""
    kept = await _kept(context, which, asked)
    _, figures = await model_for(context, asked.model)
    return await readers.preview(store.path(kept.revision.sha256), figures, asked.edit)


@router.post("/edit", status_code=201)
async def edit(
    which: Named,
    asked: w.EditRequest,
    who: Caller,
    context: Context,
    store: TheContentStore,
    readers: TheContentReaders,
    paces: TheLearnedPaces,
    intake: TheIntake,
) -> File:
    """Make an edit: its result is the file's newest revision."""
    kept = await _kept(context, which, asked)
    _, figures = await model_for(context, asked.model)
    out = store.new_path()
    try:
        done = await readers.preview(store.path(kept.revision.sha256), figures, asked.edit, out)
        with out.open("rb") as source:
            sha256 = hashlib.file_digest(source, "sha256").hexdigest()
        if sha256 == kept.revision.sha256:
            raise ApiProblem(409, "The edit changes nothing in this file.")
        received = Received(out, sha256, out.stat().st_size, sha256)
        how = f"from revision {kept.revision.number}: {done.text}"
        number = await intake.take(received, kept.file.name, who.signature, how=how)
        _, body = await answer_of(context, paces, intake, await intake.settled(number, 600))
    finally:
        out.unlink(missing_ok=True)
    if not isinstance(body, Dropped):
        raise ApiProblem(503, "The new revision is still being read; it will appear in the library.")
    return body.file


@router.get("/difference")
async def difference(
    which: Named,
    context: Context,
    store: TheContentStore,
    readers: TheContentReaders,
    earlier: Number,
    later: Number | None = None,
    model: Word = "",
) -> w.Difference:
    """How a revision (the newest without one) differs from an earlier one."""
    name, figures = await model_for(context, model)
    async with context.sessions() as db:
        new = await find_file(db, which, revision=later)
        old = await find_file(db, str(new.file.id), revision=earlier)
        old_reading = await reading_of(db, old.revision.sha256, name)
        new_reading = await reading_of(db, new.revision.sha256, name)
    found = await readers.difference(
        store.path(old.revision.sha256),
        store.path(new.revision.sha256),
        store.derived(new.revision.sha256),
        figures,
    )
    return w.Difference(
        earlier=old.revision.number,
        later=new.revision.number,
        earlier_reading=old_reading,
        later_reading=new_reading,
        **found,
    )
