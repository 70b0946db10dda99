"""Files, their revisions, preflight."""

from __future__ import annotations

import re
from typing import Annotated

from fastapi import APIRouter, Depends, Request, Response
from fastapi.responses import FileResponse
from sqlalchemy.exc import IntegrityError
from sqlalchemy.ext.asyncio import AsyncSession

from chronarch.core.bounds import Figure, Named, Number, Word
from chronarch.core.gcode.preflight import machine_findings
from chronarch.core.ledger.learning import History, history_of
from chronarch.records import tables as t
from chronarch.records.ledger.history import MOST_BUILDS, OF_FILE, ended_builds
from chronarch.records.library import files as library
from chronarch.records.library.file_search import FileSearch, facets
from chronarch.records.paging import number
from chronarch.service.context import Context
from chronarch.service.http.deadlock_retry import RetryingRoute
from chronarch.service.http.paging import Paged
from chronarch.service.http.views import TheViews
from chronarch.service.library.content_store import TheContentStore
from chronarch.service.library.finding import find_file
from chronarch.service.library.intake import make_folders
from chronarch.service.machines.fleet import TheFleet
from chronarch.service.machines.learned_paces import TheLearnedPaces
from chronarch.service.permissions import Caller
from chronarch.service.problems import ApiProblem
from chronarch.wire import library as w
from chronarch.wire.common import Hash
from chronarch.wire.gcode import Finding

router = APIRouter(tags=["files"], route_class=RetryingRoute)
GOOD_FOR_S = 60.0
"""The learned paces in a list of files may be so old."""


async def _search(
    search: Word = "",
    folder: Word | None = None,
    tag: Word = "",
    material: Word = "",
    nozzle_mm: Figure | None = None,
    model: Word = "",
    least_s: Figure | None = None,
    most_s: Figure | None = None,
    least_size: Figure | None = None,
    most_size: Figure | None = None,
    binned: bool = False,
) -> FileSearch:
    return FileSearch(
        search, folder, tag, material, nozzle_mm, model, least_s, most_s, least_size, most_size, binned
    )  # fmt: skip


@router.get("/files", response_model=list[w.File])
async def files(
    request: Request,
    page: Paged,
    context: Context,
    paces: TheLearnedPaces,
    views: TheViews,
    search: Annotated[FileSearch, Depends(_search)],
) -> Response:
    """Files, newest first; those in the bin with `binned`. `search` looks in names, notes, tags, folders and parts;
    `folder` includes what is below it; `model` keeps what a model can make, with its times."""
    query = page.of(search.query(), number(t.Revision.id, descending=True))

    async def work(db: AsyncSession) -> list[w.File]:
        found = page.cut(await library.kept_briefly(db, query, search.model), lambda k: (k.revision.id,))
        learned = await paces.all(db)
        return [library.file_wire(k, learned, search.model) for k in found]

    state = context.changes.version("files", "parts", "models")
    return await views.read(request, list[w.File], work, state, page, good_for_s=GOOD_FOR_S)


@router.get("/library", response_model=w.LibraryFacets)
async def the_library(request: Request, context: Context, views: TheViews) -> Response:
    """How many files the library holds, and for which materials, nozzles and tags."""
    return await views.read(request, w.LibraryFacets, facets, context.changes.version("files"))


@router.get("/files/{which}")
async def file(
    which: Named,
    context: Context,
    paces: TheLearnedPaces,
    model: Word = "",
    revision: Number | None = None,
) -> w.File:
    """One file by number or name, as a model reads it (by default the first)."""
    async with context.sessions() as db:
        kept = await find_file(db, which, revision=revision)
        wire = library.file_wire(kept, await paces.all(db), model)
        aside = (await library.overruled(db, [kept.revision.sha256])).get(
            (kept.revision.sha256, wire.reading.model), {}
        )
    for finding in wire.reading.findings:
        finding.overruled = aside.get(finding.rule, "")
    return wire


@router.patch("/files/{which}")
async def change_file(which: Named, change: w.FileChange, context: Context, paces: TheLearnedPaces) -> w.File:
    """Rename a file, move it to another folder, note something, tag it, or say which part it makes."""
    async with context.sessions() as db:
        kept = await find_file(db, which, binned=False)
        row = kept.file
        if change.name is not None:
            row.name = change.name
            try:
                await db.flush()
            except IntegrityError:
                raise ApiProblem(409, f"There is a file named {change.name!r} already; choose another name.") from None
        if change.folder is not None:
            row.folder = change.folder
            await make_folders(db, change.folder)
        if change.notes is not None:
            row.notes = change.notes.strip()
        if change.tags is not None:
            row.tags = sorted(set(change.tags), key=str.lower)
        if change.pieces is not None:
            row.pieces = change.pieces
        if change.part is not None:
            if change.part and await db.get(t.Part, change.part) is None:
                raise ApiProblem(422, f"There is no part {change.part}; `chronarch parts list` shows all.")
            row.part_id = change.part or None
        await db.commit()
        wire = library.file_wire(await find_file(db, str(kept.file.id)), await paces.all(db))
    return wire


@router.get("/files/{which}/content", response_class=FileResponse)
async def content(
    which: Named, context: Context, store: TheContentStore, revision: Number | None = None
) -> FileResponse:
    """The file's bytes, or those of an earlier revision."""
    async with context.sessions() as db:
        kept = await find_file(db, which, revision=revision)
    name = kept.file.name
    if revision is not None:
        stem, dot, ending = name.rpartition(".")
        name = f"{stem or name}-r{revision}{dot}{ending if stem else ''}"
    return FileResponse(store.path(kept.revision.sha256), media_type="text/x.gcode", filename=name)


@router.get("/files/{which}/revisions")
async def revisions(which: Named, context: Context) -> list[w.Revision]:
    """All contents that a file has had, newest first."""
    async with context.sessions() as db:
        return await library.revisions(db, (await find_file(db, which)).file.id)


@router.post("/files/{which}/revisions/{number:record}/restore", status_code=201)
async def restore_revision(
    which: Named, number: Number, who: Caller, context: Context, paces: TheLearnedPaces
) -> w.File:
    """Make an earlier content the newest revision again."""
    async with context.sessions() as db:
        kept = await find_file(db, which, binned=False, revision=number)
        file = await db.get_one(t.File, kept.file.id, with_for_update=True)
        if file.newest == number:
            raise ApiProblem(409, f"Revision {number} is the newest already.")
        text = f"revision {number} again"
        await library.next_revision(db, file, kept.revision.sha256, text, context.clock.now(), who.signature)
        await db.commit()
        wire = library.file_wire(await find_file(db, str(file.id)), await paces.all(db))
    return wire


@router.get("/files/{which}/history")
async def history(which: Named, context: Context) -> History:
    """What became of its builds, by machine and model, with planned and real time."""
    async with context.sessions() as db:
        return history_of(await ended_builds(db, OF_FILE, MOST_BUILDS, which=(await find_file(db, which)).file.id))


@router.get("/files/{which}/preflight")
async def preflight(which: Named, context: Context, fleet: TheFleet, machine: Named) -> list[Finding]:
    """What stands against a file on one machine as it is now, including the findings for its model."""
    known = fleet.find(machine)
    async with context.sessions() as db:
        kept = await find_file(db, which)
        aside = (await library.overruled(db, [kept.revision.sha256])).get((kept.revision.sha256, known.model.name), {})
        names = {model.name.lower(): model.name for model in await library.models_of(db)}
    reading = kept.readings.get(known.model.name)
    if reading is None:
        context.changes.wake("readings")
        raise ApiProblem(409, f"The file is being read for {known.model.name}; ask again in a moment.")
    said = reading.figures["declared"]
    here = machine_findings(
        reading.figures["tools"],
        said["nozzle_mm"],
        said["material"],
        fleet.standing(known).capability.tools,
        names.get(said["model"].lower(), ""),
        known.model.name,
    )
    found = [Finding.model_validate(f) for f in reading.figures["findings"]]
    found += [Finding(rule=f.rule, severity=f.severity, line=f.line, text=f.text) for f in here]
    for finding in found:
        finding.overruled = aside.get(finding.rule, "")
    return found


@router.post("/files/{which}/overrule", status_code=201)
async def overrule(which: Named, asked: w.Overruling, who: Caller, context: Context, paces: TheLearnedPaces) -> w.File:
    """Let this content run on a model although a rule refuses it. Who did so and why is recorded, and holds only for
    the content of this revision."""
    async with context.sessions() as db:
        kept = await find_file(db, which, binned=False)
        if asked.model not in kept.readings:
            raise ApiProblem(
                422, f"There is no model {asked.model!r} that has read this file; `chronarch models list`."
            )
        row = t.Overruling(
            sha256=kept.revision.sha256, model=asked.model, rule=asked.rule, reason=asked.reason.strip(),
            at=context.clock.now(), by=who.signature,
        )  # fmt: skip
        await db.merge(row)
        await db.commit()
    return await file(which, context, paces, asked.model)


@router.get("/blobs/{sha256}", response_class=FileResponse)
async def blob(sha256: Hash, store: TheContentStore) -> FileResponse:
    """A file's bytes by their hash, for tenders."""
    path = store.path(sha256)
    if not re.fullmatch(r"[0-9a-f]{64}", sha256) or not path.exists():
        raise ApiProblem(404, f"There is nothing kept under {sha256[:64]!r}.")
    return FileResponse(path, media_type="application/octet-stream")
